"""Patterns over paths: ``*`` and ``?`` stay within a folder, ``**`` crosses folders."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Final

WILDCARD: Final = re.compile(r"[*?\[]")

PathTest = Callable[[str], bool]


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
    prefixes = tuple(each[:-2] for each in patterns if re.fullmatch(r"[^*?\[]+/\*\*", each))
    others = [each for each in patterns if each[:-2] not in prefixes]
    if not others:
        return lambda path: path.startswith(prefixes) or f"{path}/" in prefixes
    from wcmatch import glob

    compiled = glob.compile(others, flags=glob.GLOBSTAR | glob.CASE | glob.DOTGLOB | glob.FORCEUNIX)
    return lambda path: (
        path.startswith(prefixes) or f"{path}/" in prefixes or bool(compiled.match(path))
    )


def fixed_folder(pattern: str) -> str:
    """Return the folder, with its slash, that everything which fits lies under."""
    wild = WILDCARD.search(pattern)
    return pattern[: pattern.rfind("/", 0, wild.start() if wild else len(pattern)) + 1]
