"""The form that all JSON documents have in common."""

from __future__ import annotations

import os
from typing import Any

FORMAT = 1
"""The ``format`` with which every document begins."""
_MUCH = 2_000
"""Entries of a document from which on a faster package is worth its import."""


def with_format(document: Any) -> dict[str, Any]:
    """Return a document as it is printed: it begins with the format."""
    return {"format": FORMAT, **document}


def document_text(document: Any) -> str:
    """Return a document as it is printed: indented, in ASCII; a long one by a faster package."""
    whole = with_format(document)
    lists = [each for each in whole.values() if isinstance(each, (list, tuple))]
    if sum(map(len, lists)) > _MUCH:
        import msgspec

        text = msgspec.json.format(msgspec.json.encode(whole), indent=2)
        if text.isascii():
            return text.decode("ascii")
    import json

    return json.dumps(whole, indent=2, ensure_ascii=True)


def schema_file(command: str) -> str:
    """Return the file of the JSON Schema of what a command prints."""
    return os.path.join(os.path.dirname(__file__), "documents", "schemas", f"{command}.json")
