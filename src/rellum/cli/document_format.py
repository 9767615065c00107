"""The form that all JSON documents have in common."""

from __future__ import annotations

import os
from typing import Any

FORMAT = 1
"""The ``format`` with which every document begins."""


def with_format(document: Any) -> dict[str, Any]:
    """Return a document as it is printed: it begins with the format."""
    return {"format": FORMAT, **document}


def schema_file(command: str) -> str:
    """Return the file of the JSON Schema of what a command prints."""
    return os.path.join(os.path.dirname(__file__), "documents", "schemas", f"{command}.json")
