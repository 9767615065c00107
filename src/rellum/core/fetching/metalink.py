"""Metalink 4 (RFC 5854): lists of files with their hashes and addresses, for any download program."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final
from urllib.parse import urlsplit

from rellum.core.errors import UserError

NAMESPACE: Final = "urn:ietf:params:xml:ns:metalink"
MEDIA_ENDING: Final = ".meta4"
_HASHES: Final = {"sha-256": "sha256", "sha-1": "sha1", "md5": "md5", "blake3": "blake3"}
_SCHEMES: Final = ("https://", "http://")


class MetalinkFault(UserError):
    """A Metalink file cannot be read."""

    code = "metalink-fault"


@dataclass(frozen=True, slots=True, kw_only=True)
class ListedFile:
    """One file of a Metalink. ``urls`` are in the order in which to try them."""

    name: str
    size: int | None = None
    sha256: str | None = None
    blake3: str | None = None
    urls: tuple[str, ...] = ()
    description: str = ""
    page: str = ""


def metalink_text(files: Sequence[ListedFile]) -> str:
    """Return the document that lists these files."""
    ET.register_namespace("", NAMESPACE)
    root = ET.Element(_tag("metalink"))
    ET.SubElement(root, _tag("generator")).text = "rellum"
    for each in files:
        file = ET.SubElement(root, _tag("file"), name=each.name)
        if each.description:
            ET.SubElement(file, _tag("description")).text = each.description
        if each.page:
            ET.SubElement(file, _tag("publisher"), name=each.name, url=each.page)
        if each.size is not None:
            ET.SubElement(file, _tag("size")).text = str(each.size)
        if each.sha256:
            ET.SubElement(file, _tag("hash"), type="sha-256").text = each.sha256
        for priority, url in enumerate(each.urls, 1):
            ET.SubElement(file, _tag("url"), priority=str(priority)).text = url
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def read_metalink(path: str) -> tuple[ListedFile, ...]:
    """Read a Metalink file. Raises MetalinkFault with the line, OSError.

    Document types and entities are refused: no list of files needs them, and some are bombs.
    """
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import parse

    try:
        root = parse(path, forbid_dtd=True).getroot()
    except ET.ParseError as error:
        line, _ = error.position
        raise MetalinkFault(f"{path}:{line}: not valid XML ({error.msg})") from error
    except LookupError as error:
        raise MetalinkFault(f"{path}:1: in an unknown encoding ({error})") from error
    except DefusedXmlException as error:
        raise MetalinkFault(
            f"{path}: has a document type or entities",
            hint="A Metalink file never has these. Do not use it.",
        ) from error
    if root is None or root.tag != _tag("metalink"):
        raise MetalinkFault(
            f"{path}: not a Metalink 4 file (RFC 5854)",
            hint="Other versions of Metalink are not read.",
        )
    found = tuple(_read_file(path, element) for element in root.findall(_tag("file")))
    if not found:
        raise MetalinkFault(f"{path}: lists no file")
    return found


def _read_file(path: str, element: ET.Element) -> ListedFile:
    name = element.get("name", "")
    # RFC 5854, 4.1.2.1: a name must not lead anywhere; only its last part is ever used here.
    base = name.replace("\\", "/").rpartition("/")[2]
    if base in ("", ".", ".."):
        raise MetalinkFault(f"{path}: a file has the name {name!r}")
    size = element.findtext(_tag("size"), "").strip()
    hashes = {
        _HASHES[kind]: (each.text or "").strip().lower()
        for each in element.findall(_tag("hash"))
        if (kind := each.get("type", "").lower()) in _HASHES
    }
    urls = [(_priority(each), (each.text or "").strip()) for each in element.findall(_tag("url"))]
    return ListedFile(
        name=base,
        size=_number(size),
        sha256=hashes.get("sha256"),
        blake3=hashes.get("blake3"),
        urls=tuple(url for _, url in sorted(urls, key=lambda e: e[0]) if _is_address(url)),
        description=element.findtext(_tag("description"), "").strip(),
    )


def _priority(element: ET.Element) -> int:
    found = _number(element.get("priority", ""))
    return 999_999 if found is None else found


def _number(text: str) -> int | None:
    """Return a number from outside; None for what is none, or too long to be one."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 18 else None


def _is_address(text: str) -> bool:
    try:
        return text.startswith(_SCHEMES) and urlsplit(text) is not None
    except ValueError:  # brackets that are no address of version 6
        return False


def _tag(name: str) -> str:
    return f"{{{NAMESPACE}}}{name}"
