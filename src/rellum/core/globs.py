"""Patterns over paths: ``*`` and ``?`` stay within a folder, ``**`` crosses folders."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Final

WILDCARD: Final = re.compile(r"[*?\[]")

_WILD_OR_LITERAL: Final = r"\[\[\]|[*?\[]"

PathTest = Callable[[str], bool]


def literal(name: str) -> str:
    """Return the pattern that fits just a name or path in which no star or question mark is."""
    return name.replace("[", "[[]")


def path_test(pattern: str) -> PathTest:
    """Return the test of one pattern over whole paths."""
    if pattern == "**":
        return lambda _: True
    if not WILDCARD.search(pattern):
        return lambda path: path == pattern
    return any_test([pattern])


def any_test(patterns: Sequence[str], *, folds_case: bool = False) -> PathTest:
    """Return the test whether a path, or a folder of that path, fits one of the patterns.

    ``@game/logs/**`` is the common kind, and is tried without a library. ``folds_case``: capitals and
    small letters are one.
    """
    if folds_case:
        fits = any_test([pattern.casefold() for pattern in patterns])
        return lambda path: fits(path.casefold())
    prefixes = tuple(
        each[:-2] for each in patterns if each.endswith("/**") and not WILDCARD.search(each[:-2])
    )
    others = [each for each in patterns if each[:-2] not in prefixes]
    if not others:
        return lambda path: path.startswith(prefixes) or f"{path}/" in prefixes
    fits_other = re.compile("|".join(map(_as_regex, others)), re.DOTALL).fullmatch
    return lambda path: (
        path.startswith(prefixes) or f"{path}/" in prefixes or fits_other(path) is not None
    )


def _as_regex(pattern: str) -> str:
    """Return a regular expression that takes time which grows with the path, however many stars there are.

    Where a star may stand for more or less, the least that lets the next piece fit is right: what is left to
    the rest is then the most. So no choice is ever taken back (atomic groups).
    """
    parts = pattern.rstrip("/").split("/")
    runs: list[list[str]] = [[]]  # names between '**'
    for part in parts:
        if part == "**":
            runs.append([])
        else:
            runs[-1].append(_name_regex(part))
    first, *others = ["/".join(run) for run in runs]
    if not others:
        return f"{first}/?"
    *middle, last = others
    folders = "(?:[^/]+/)*"
    found = f"{first}/" if first else ""
    found += "".join(f"(?>{folders}?{run}/)" for run in middle if run)
    return found + (f"{folders}{last}/?" if last else ".*")


_SIGN: Final = r"\*+|\[(!?)(\][^\]]*|[^\]]+)\]|."


def _name_regex(part: str) -> str:
    """Return the expression of one name: ``*``, ``?`` and ``[ab]``, ``[a-z]``, ``[!a]`` stay within it."""
    pieces = [""]  # between stars
    for sign in re.finditer(_SIGN, part, re.DOTALL):
        if sign[0].startswith("*"):
            pieces.append("")
        elif sign[2]:
            pieces[-1] += f"(?!/)[{'^' if sign[1] else ''}{_class_regex(sign[2])}]"
        else:
            pieces[-1] += "[^/]" if sign[0] == "?" else re.escape(sign[0])
    if len(pieces) == 1:
        return pieces[0]
    first, *middle, last = pieces
    found = first + "".join(f"(?>[^/]*?{piece})" for piece in middle if piece)
    # A star alone stands for a name, which is never empty.
    start = "" if first or any(middle) or last else "(?=[^/])"
    return f"{start}{found}(?>[^/]*?{last}(?![^/]))" if last else f"{start}{found}[^/]*"


def _class_regex(inside: str) -> str:
    """Return what stands in brackets, with its ranges; a range that runs backwards is three signs."""
    found = ""
    for part in re.finditer(r"(.)-(.)|.", inside, re.DOTALL):
        is_range = part[1] is not None and part[1] <= part[2]
        ends = [re.escape(each) for each in ((part[1], part[2]) if is_range else part[0])]
        found += "-".join(ends) if is_range else "".join(ends)
    return found


def fixed_start(pattern: str) -> str:
    """Return what everything that fits begins with: the text before the first wildcard."""
    wild = next((each for each in re.finditer(_WILD_OR_LITERAL, pattern) if each[0] != "[[]"), None)
    return (pattern[: wild.start()] if wild else pattern).replace("[[]", "[")


def fixed_folder(pattern: str) -> str:
    """Return the folder, with its slash, that everything which fits lies under."""
    start = fixed_start(pattern)
    return start[: start.rfind("/") + 1]


def split_fixed(pattern: str) -> tuple[str, str]:
    """Split ``Tides/data/**`` into the fixed folder ``Tides/data/`` and the pattern ``**``."""
    folder = fixed_folder(pattern)
    return folder, pattern[len(literal(folder)) if "[[]" in pattern else len(folder) :]
