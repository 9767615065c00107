"""Ids and hashes as sheets, cards and packs write them."""

from __future__ import annotations

import re
from functools import lru_cache

_HEXADECIMAL = re.compile(r"[0-9a-fA-F]*")
ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*\Z")


@lru_cache(maxsize=65536)
def parse_id(text: str) -> str:
    """Check an id: small letters, digits and single hyphens. Raises ValueError."""
    if not ID.match(text) or len(text) > 64:
        raise ValueError(f"{text!r} is not a valid id; use small letters, digits and hyphens")
    return text


def parse_digest(text: str, digits: int = 64) -> str:
    """Check a hash in hexadecimal; returns it in small letters. Raises ValueError."""
    if len(text) != digits or not _HEXADECIMAL.fullmatch(text):
        raise ValueError(f"a hash has {digits} hexadecimal digits, {text[:20]!r} has not")
    return text.lower()
