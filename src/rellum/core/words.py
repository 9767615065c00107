"""Counts in words, for messages."""

from __future__ import annotations


def count_words(count: int, one: str, many: str) -> str:
    """Return ``1 file is`` or ``3 files are``."""
    return f"{count:,} {one if count == 1 else many}"


def quoted(word: str) -> str:
    """Return a word of a command as it can be pasted into a shell."""
    import shlex

    return shlex.quote(word)
