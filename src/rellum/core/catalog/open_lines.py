"""Lines of a card that a person must still decide: a release with one is not taken, chosen or laid."""

from __future__ import annotations

from dataclasses import replace
from typing import Final

from rellum.core.catalog.model import Mod
from rellum.core.catalog.toml_lines import key_lines

MARK: Final = "FILL IN"
"""Stands in a comment of each line that a person must look at."""

VALUE: Final = "FILL-IN"
"""Stands for a value that nobody knows yet."""


def open_lines(text: str) -> tuple[int, ...]:
    """Return the lines of a card, from 1, that are still to be decided."""
    if MARK not in text and VALUE not in text:
        return ()
    return tuple(
        number
        for number, line in enumerate(text.splitlines(), 1)
        if f"{MARK}:" in line.partition("#")[2] or f'"{VALUE}' in line
    )


def with_open_lines(mod: Mod, text: str) -> Mod:
    """Return a mod whose releases know which lines of theirs are still to be decided."""
    marked = open_lines(text)
    if not marked:
        return mod
    lines = key_lines(text)
    begins = sorted(line for key, line in lines.items() if len(key) == 2 and key[0] == "release")
    first = begins[0] if begins else 0
    in_head = tuple(each for each in marked if each < first)
    releases = []
    for release in mod.releases:
        begin = lines.get(release.source.key[:2], first)
        end = next((each for each in begins if each > begin), len(text))
        own = tuple(each for each in marked if begin <= each < end)
        releases.append(replace(release, open_lines=in_head + own))
    return replace(mod, releases=tuple(releases))
