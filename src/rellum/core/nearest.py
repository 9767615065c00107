"""Offering the known words that are nearest to one that is not known."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(word: str, known: Iterable[str], *, most: int = 3) -> str:
    """Return "; did you mean …?" with the nearest of the known words, or an empty text."""
    import difflib

    close = difflib.get_close_matches(word, list(known), n=most, cutoff=0.5)
    return f"; did you mean {' or '.join(repr(each) for each in close)}?" if close else ""
