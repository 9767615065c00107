"""JSON Patch (RFC 6902) and JSON Merge Patch (RFC 7396)."""

from __future__ import annotations

import copy
import json
import re
from typing import Any

from rellum.core.patching.model import PatchFault

_INDEX = re.compile(r"0|[1-9][0-9]*")


def patch_json(content: bytes, patch: bytes, name: str, fuzz: int = 0) -> bytes:
    """Return a JSON text with a JSON Patch applied. Raises PatchFault; then nothing of it is applied."""
    document = read_json(content, "the file")
    operations = read_json(patch, name)
    if not isinstance(operations, list):
        raise PatchFault(f"{name}: a JSON Patch is a list of operations (RFC 6902)")
    for number, operation in enumerate(operations):
        try:
            document = _apply(document, operation)
        except (KeyError, IndexError, TypeError, ValueError) as error:
            raise PatchFault(f"{name}: operation {number + 1}: {_words(error)}") from error
    return write_json(document, content)


def merge_json(content: bytes, patch: bytes, name: str, fuzz: int = 0) -> bytes:
    """Return a JSON text with a JSON Merge Patch applied. Raises PatchFault."""
    return write_json(merged(read_json(content, "the file"), read_json(patch, name)), content)


def merged(target: Any, patch: Any) -> Any:
    """Return what RFC 7396, section 2, gives."""
    if not isinstance(patch, dict):
        return patch
    result = dict(target) if isinstance(target, dict) else {}
    for key, value in patch.items():
        if value is None:
            result.pop(key, None)
        else:
            result[key] = merged(result.get(key), value)
    return result


def read_json(content: bytes, name: str) -> Any:
    """Read a JSON text. Raises PatchFault with the line."""
    try:
        return json.loads(content.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise PatchFault(f"{name}: is no UTF-8 text") from error
    except json.JSONDecodeError as error:
        raise PatchFault(f"{name}:{error.lineno}: is no JSON ({error.msg})") from error
    except ValueError as error:  # a number with thousands of digits
        raise PatchFault(f"{name}: holds a number that is too long") from error
    except RecursionError as error:
        raise PatchFault(f"{name}: is nested too deeply") from error


def write_json(document: Any, like: bytes) -> bytes:
    """Write a document with the indentation, line ends and last line end of the text before."""
    text = like.decode("utf-8-sig")
    indented = re.search(r"\n([ \t]+)\S", text)
    written = json.dumps(document, ensure_ascii=False, indent=indented[1] if indented else None)
    if text.endswith("\n"):
        written += "\n"
    if "\r\n" in text:
        written = written.replace("\n", "\r\n")
    return written.encode("utf-8")


def _apply(document: Any, operation: Any) -> Any:
    if not isinstance(operation, dict):
        raise ValueError("an operation is an object")
    kind, path = operation["op"], _pointer(operation["path"])
    if kind == "add":
        return _added(document, path, copy.deepcopy(operation["value"]))
    if kind == "remove":
        return _removed(document, path)[0]
    if kind == "replace":
        value = copy.deepcopy(operation["value"])
        _at(document, path)
        return _replaced(document, path, value)
    if kind == "test":
        if not _same(_at(document, path), operation["value"]):
            raise ValueError(f"the test of {operation['path']!r} fails")
        return document
    if kind not in ("move", "copy"):
        raise ValueError(f"{kind!r} is no operation of RFC 6902")
    source = _pointer(operation["from"])
    if kind == "copy":
        return _added(document, path, copy.deepcopy(_at(document, source)))
    if path[: len(source)] == source and path != source:
        raise ValueError("a value cannot be moved into itself")
    rest, value = _removed(document, source)
    return _added(rest, path, value)


def _replaced(document: Any, path: list[str], value: Any) -> Any:
    """Put another value where one is; what stands beside it keeps its place."""
    if not path:
        return value
    above = _at(document, path[:-1])
    key = path[-1] if isinstance(above, dict) else _index(path[-1], len(above), may_end=False)
    above[key] = value
    return document


def _pointer(text: Any) -> list[str]:
    """Read a JSON Pointer (RFC 6901)."""
    if not isinstance(text, str) or (text and not text.startswith("/")):
        raise ValueError(f"{text!r} is no JSON Pointer")
    return [part.replace("~1", "/").replace("~0", "~") for part in text.split("/")[1:]]


def _index(part: str, length: int, *, may_end: bool) -> int:
    if part == "-" and may_end:
        return length
    if not _INDEX.fullmatch(part):
        raise ValueError(f"{part!r} is no index of a list")
    number = int(part)
    if number > length or (number == length and not may_end):
        raise ValueError(f"the list has no item {number}")
    return number


def _at(document: Any, path: list[str]) -> Any:
    for part in path:
        if isinstance(document, list):
            document = document[_index(part, len(document), may_end=False)]
        elif isinstance(document, dict) and part in document:
            document = document[part]
        else:
            raise ValueError(f"there is no {part!r}")
    return document


def _added(document: Any, path: list[str], value: Any) -> Any:
    if not path:
        return value
    above, last = _at(document, path[:-1]), path[-1]
    if isinstance(above, list):
        above.insert(_index(last, len(above), may_end=True), value)
    elif isinstance(above, dict):
        above[last] = value
    else:
        raise ValueError(f"{last!r} lies in neither an object nor a list")
    return document


def _removed(document: Any, path: list[str]) -> tuple[Any, Any]:
    value = _at(document, path)
    if not path:
        return None, value
    above, last = _at(document, path[:-1]), path[-1]
    if isinstance(above, list):
        del above[_index(last, len(above), may_end=False)]
    else:
        del above[last]
    return document, value


def _same(one: Any, other: Any) -> bool:
    """Whether two values are equal in JSON: true is not 1, but 1 is 1.0."""
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(map(_same, one, other))
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(_same(one[key], other[key]) for key in one)
    return bool(one == other)


def _words(error: Exception) -> str:
    return f"it has no {error}" if isinstance(error, KeyError) else str(error)
