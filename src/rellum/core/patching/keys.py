"""Edits of single keys in settings files, comments and order kept: INI, properties, JSON, TOML.

Keys compare as the readers of a form compare them. Most readers of INI take ``Waves`` and ``waves`` for one
key, and so for sections: what stands there keeps its spelling. ``ini-exact`` is for those that do not; in the
other forms they are two.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, get_args

from rellum.core.patching.json_patch import read_json, write_json
from rellum.core.patching.model import PatchFault, Setting, SettingsForm, Value
from rellum.core.toml_comments import comments_in_place

_SECTION = re.compile(r"^\s*\[(?P<name>[^\]]*)\]")
_PAIR = re.compile(r"^(?P<lead>\s*)(?P<key>[^=:;#\[\s][^=:]*?)(?P<mid>\s*[=:]\s*)(?P<value>.*)$")
_ENDINGS: dict[str, SettingsForm] = {
    "ini": "ini", "cfg": "ini", "conf": "ini", "inf": "ini",
    "properties": "properties", "json": "json", "toml": "toml",
}  # fmt: skip


def form_by_name(path: str) -> SettingsForm | None:
    """Return the form of a settings file by its ending; None where that does not tell."""
    return _ENDINGS.get(path.rpartition(".")[2].lower())


def settings_forms() -> tuple[SettingsForm, ...]:
    """Return the names of the forms."""
    return get_args(SettingsForm)


def edit_keys(content: bytes, form: SettingsForm, settings: Sequence[Setting], name: str) -> bytes:
    """Return a settings file with keys set or taken out. Raises PatchFault; ``name`` is the card's."""
    if form == "json":
        return _edit_json(content, settings, name)
    text = _decoded(content, name)
    edited = (
        _edit_toml(text, settings, name)
        if form == "toml"
        else _edit_lines(text, form, settings, name)
    )
    mark = b"\xef\xbb\xbf" if content.startswith(b"\xef\xbb\xbf") else b""
    return mark + edited.encode("utf-8")


def without_emptied_sections(
    content: bytes, before: bytes, others: bytes, form: SettingsForm, name: str
) -> bytes:
    """Return an INI file without the sections that became empty: with lines in ``before``, not in ``others``.

    Raises PatchFault.
    """
    blocks, then, other = (
        list(_sections(_decoded(each, name), form)) for each in (content, before, others)
    )
    gone = _said(then) - _said(blocks) - {section for section, _ in other} - {""}
    if not gone:
        return content
    lines = [line for section, block in blocks if section not in gone for line in block]
    while blocks[-1][0] in gone and lines and not lines[-1].strip():
        lines.pop()
    mark = b"\xef\xbb\xbf" if content.startswith(b"\xef\xbb\xbf") else b""
    return mark + "".join(lines).encode("utf-8")


def _sections(text: str, form: SettingsForm) -> Iterator[tuple[str, list[str]]]:
    """Yield the sections of an INI file, each with its lines, its header first; the first one has no name."""
    name, block = "", list[str]()
    for line in text.splitlines(keepends=True):
        if header := _SECTION.match(line):
            yield name, block
            name, block = key_of((header["name"].strip(),), form)[0], []
        block.append(line)
    yield name, block


def _said(blocks: Iterable[tuple[str, Sequence[str]]]) -> set[str]:
    """Return the sections that have more than a header, wherever in the file."""
    return {name for name, lines in blocks if any(line.strip() for line in lines[1:])}


def read_keys(content: bytes, form: SettingsForm, name: str) -> dict[tuple[str, ...], Any] | None:
    """Return all keys, with the sections they lie in, and their values. Raises PatchFault.

    None where a key stands there twice, so that a key does not tell which is meant. ``name`` is the
    file, as messages show it. Keys are spelt as they are there; ``key_of`` tells which are the same.
    """
    if form == "json":
        document = read_json(content, name) if content.strip() else {}
        return dict(_flattened(document, ())) if isinstance(document, dict) else None
    text = _decoded(content, name)
    if form == "toml":
        return dict(_flattened(_read_toml(text, name), ()))
    keys: dict[tuple[str, ...], Any] = {}
    seen: set[tuple[str, ...]] = set()
    section: tuple[str, ...] = ()
    for line in text.splitlines():
        if form != "properties" and (found := _SECTION.match(line)):
            section = (found["name"].strip(),)
        elif found := _PAIR.match(line):
            key = (*section, found["key"].strip())
            if key_of(key, form) in seen:
                return None
            seen.add(key_of(key, form))
            keys[key] = found["value"].strip()
    return keys


def key_of(path: tuple[str, ...], form: SettingsForm) -> tuple[str, ...]:
    """Return what two spellings of one key have in common."""
    return tuple(part.casefold() for part in path) if form == "ini" else path


def _flattened(table: Mapping[str, Any], above: tuple[str, ...]) -> Iterator[tuple[Any, Any]]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _flattened(value, (*above, key))
        else:
            yield (*above, key), value


def _read_toml(text: str, name: str) -> dict[str, Any]:
    import tomllib

    try:
        return tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise PatchFault(f"{name}: is no TOML ({error})") from error


def _decoded(content: bytes, name: str) -> str:
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = content[: error.start].count(b"\n") + 1
        raise PatchFault(f"{name}: line {line} of the file is no UTF-8 text") from error


def _edit_json(content: bytes, settings: Sequence[Setting], name: str) -> bytes:
    document = read_json(content, "the file")
    if not isinstance(document, dict):
        raise PatchFault(f"{name}: the file is no JSON object, and has no keys to set")
    for path, value in settings:
        table = document
        for depth, part in enumerate(path[:-1], 1):
            if not isinstance(table.get(part, {}), dict):
                key, kind = ".".join(path[:depth]), _kind(table[part])
                raise PatchFault(f"{name}: {key!r} is a {kind} in the file, and has no keys")
            table = table.get(part, {}) if value is None else table.setdefault(part, {})
        if value is None:
            table.pop(path[-1], None)
        else:
            table[path[-1]] = value
    return write_json(document, content)


def _kind(value: object) -> str:
    return "list" if isinstance(value, list) else "text" if isinstance(value, str) else "value"


def _is_there(path: Sequence[str], table: Any) -> bool:
    for part in path:
        if not isinstance(table, dict) or part not in table:
            return False
        table = table[part]
    return True


def _edit_toml(text: str, settings: Sequence[Setting], name: str) -> str:
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        document = tomlkit.parse(text)
        for path, value in settings:
            table: Any = document
            if value is None and not _is_there(path[:-1], document):
                continue
            for part in path[:-1]:
                if part not in table:
                    table[part] = tomlkit.table()
                table = table[part]
            if value is None:
                table.pop(path[-1], None)
            else:
                table[path[-1]] = value
        return comments_in_place(text, tomlkit.dumps(document))
    except (TOMLKitError, AttributeError, TypeError) as error:
        raise PatchFault(f"{name}: the file is no TOML that this fits ({error})") from error


def _edit_lines(text: str, form: SettingsForm, settings: Sequence[Setting], name: str) -> str:
    """Set keys line by line; a key that is not there comes at the end of its section."""
    end = "\r\n" if "\r\n" in text else "\n"
    lines = text.splitlines()
    for path, value in settings:
        section, key = _section_and_key(path, form, name)
        _set_in_lines(lines, section, key, value, form)
    joined = end.join(lines)
    return joined + end if lines and (not text or text.endswith(("\n", "\r"))) else joined


def _section_and_key(path: tuple[str, ...], form: SettingsForm, name: str) -> tuple[str, str]:
    if form == "properties":
        return "", ".".join(path)
    if len(path) > 2:
        raise PatchFault(
            f"{name}: {'.'.join(path)!r} is too deep: an INI file has sections and keys"
        )
    return (path[0], path[1]) if len(path) == 2 else ("", path[0])


def _set_in_lines(
    lines: list[str], section: str, key: str, value: Value | None, form: SettingsForm
) -> None:
    begin, end = _section_lines(lines, section, form)
    for index in range(begin, end):
        found = _PAIR.match(lines[index])
        if found and key_of((found["key"].strip(),), form) == key_of((key,), form):
            if value is None:
                del lines[index]
            else:
                lines[index] = f"{found['lead']}{found['key']}{found['mid']}{_text(value)}"
            return
    if value is None:
        return
    if begin > len(lines):  # no such section yet
        lines += [*([""] if lines else []), f"[{section}]"]
        end = len(lines)
    while end > begin and end <= len(lines) and not lines[end - 1].strip():
        end -= 1
    lines.insert(end, f"{key}{_middle(lines)}{_text(value)}")


def _section_lines(lines: Sequence[str], section: str, form: SettingsForm) -> tuple[int, int]:
    """Return where the lines of a section begin and end; beyond all lines where there is none."""
    begin = 0 if not section else len(lines) + 1
    for index, line in enumerate(lines):
        found = _SECTION.match(line)
        if found is None:
            continue
        if begin <= index:
            return begin, index
        if section and key_of((found["name"].strip(),), form) == key_of((section,), form):
            begin = index + 1
    return begin, max(begin, len(lines))


def _middle(lines: Sequence[str]) -> str:
    """Return what stands between key and value elsewhere in the file."""
    return next((found["mid"] for line in lines if (found := _PAIR.match(line))), " = ")


def _text(value: Value) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)
