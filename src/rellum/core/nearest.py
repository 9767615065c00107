"""Offering the known words that are nearest to one that is not known."""

from __future__ import annotations

from collections.abc import Iterable, Sequence


def nearest(word: str, known: Iterable[str], *, most: int = 3) -> str:
    """Return "; did you mean …?" with the nearest of the known words, or an empty text."""
    import difflib

    choices = list(known)
    same = [each for each in choices if each.casefold() == word.casefold()]
    close = same or difflib.get_close_matches(word, choices, n=most, cutoff=0.5)
    return meant(close)


def meant(words: Sequence[str]) -> str:
    """Return "; did you mean …?" with these words; an empty text where there are none."""
    return f"; did you mean {' or '.join(map(repr, words))}?" if words else ""
