"""The files in which mods describe themselves, read into plain tables, lists and texts.

They come from strangers: no file is larger than a megabyte, nests deeper than fifty levels, or brings a
document type of its own (XML).
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any, Final, NewType

FileForm = NewType("FileForm", str)

MOST_BYTES: Final = 1 << 20
MOST_LEVELS: Final = 50

Document = Any
"""Tables (dict), lists and texts; numbers and truth values are as the form has them."""


class NotReadable(ValueError):
    """A file that is not of the form that the sheet says."""


def read_own_file(content: bytes, form: FileForm) -> Document:
    """Read a file of that form. Raises NotReadable."""
    if len(content) > MOST_BYTES:
        raise NotReadable(f"it has {len(content):,} bytes, more than a description needs")
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = content.decode("cp1252", "replace")
    try:
        found = FILE_FORMS[form](text)
    except RecursionError as error:
        raise NotReadable("it is nested too deeply") from error
    if _depth(found) > MOST_LEVELS:
        raise NotReadable("it is nested too deeply")
    return found


def _depth(document: Document) -> int:
    depth, level = 0, [document]
    while level and depth <= MOST_LEVELS:
        depth += 1
        inner: list[Document] = []
        for each in level:
            if isinstance(each, dict):
                inner += each.values()
            elif isinstance(each, list):
                inner += each
        level = inner
    return depth


_JSON_EXTRA: Final = re.compile(
    r'"(?:[^"\\]|\\.)*"|(?P<comment>//[^\n]*|/\*.*?\*/)|(?P<comma>,)(?=\s*[}\]])', re.DOTALL
)


def _json(text: str) -> Document:
    """Read JSON, with comments and a comma before a closing bracket passed over."""

    def plain(match: re.Match[str]) -> str:
        return " " if match["comment"] or match["comma"] else match[0]

    without = _JSON_EXTRA.sub(plain, text)
    try:
        return json.loads(_JSON_EXTRA.sub(plain, without), strict=False)
    except ValueError as error:
        raise NotReadable(f"it is no JSON ({error})") from error


def _toml(text: str) -> Document:
    import tomli

    try:
        return tomli.loads(text)
    except ValueError as error:
        raise NotReadable(f"it is no TOML ({error})") from error


def _xml(text: str) -> Document:
    """Read XML: a tag is a key, an attribute ``@name``; a tag with nothing but text is that text."""
    from xml.etree import ElementTree

    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise NotReadable("it brings a document type of its own, which is not read")
    try:
        root = ElementTree.fromstring(text)
    except (ElementTree.ParseError, ValueError) as error:
        raise NotReadable(f"it is no XML ({error})") from error
    return {_tag(root.tag): _element(root)}


def _tag(name: str) -> str:
    return name.rpartition("}")[2]


def _element(element: Any) -> Document:
    found: dict[str, Any] = {f"@{_tag(key)}": value for key, value in element.attrib.items()}
    for child in element:
        key, value = _tag(child.tag), _element(child)
        if key not in found:
            found[key] = value
        elif isinstance(found[key], list):
            found[key].append(value)
        else:
            found[key] = [found[key], value]
    text = (element.text or "").strip()
    if not found:
        return text
    if text:
        found["#text"] = text
    return found


def _ini(text: str) -> Document:
    """Read INI: sections are tables; keys before the first section stand at the top."""
    found: dict[str, Any] = {}
    section = found
    for line in text.splitlines():
        line = line.strip()
        if not line or line[0] in "#;":
            continue
        if line[0] == "[" and "]" in line:
            inner = found.setdefault(line[1 : line.index("]")].strip(), {})
            section = inner if isinstance(inner, dict) else found
            continue
        key, sign, value = line.partition("=")
        if sign:
            section[key.strip()] = value.strip().strip("\"'")
    return found


def _properties(text: str) -> Document:
    found: dict[str, Any] = {}
    for line in text.splitlines():
        line = line.strip()
        if line and line[0] not in "#!":
            key, _, value = re.sub(r"\s*[=:]\s*", "=", line, count=1).partition("=")
            found[key.strip()] = value.strip()
    return found


def _headers(text: str) -> Document:
    """Read ``Key: value`` lines up to the first empty one; a line that begins with a blank goes on."""
    found: dict[str, Any] = {}
    last = ""
    for line in text.splitlines():
        if not line.strip():
            if found:
                break
        elif line[0] in " \t" and last:
            found[last] += f" {line.strip()}"
        else:
            key, sign, value = line.partition(":")
            if sign:
                last = key.strip()
                found[last] = value.strip()
    return found


def _lines(text: str) -> Document:
    return [line.strip() for line in text.splitlines() if line.strip()]


FILE_FORMS: Final[dict[FileForm, Callable[[str], Document]]] = {
    FileForm("json"): _json,
    FileForm("toml"): _toml,
    FileForm("xml"): _xml,
    FileForm("ini"): _ini,
    FileForm("properties"): _properties,
    FileForm("headers"): _headers,
    FileForm("lines"): _lines,
}
"""Every form that a sheet can name."""
