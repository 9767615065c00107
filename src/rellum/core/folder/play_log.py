"""What the log of a game tells: how the start went, and which mods were loaded or failed."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Literal, NamedTuple

from rellum.core.catalog.play_rules import LogRules
from rellum.core.folder.detection import PatternTooSlow

MOST_BYTES = 4 << 20
"""Of a longer log the end is read."""

KEPT_BYTES = 64 << 10
"""So much of the end of a log is kept."""

_MOST_SECONDS = 5.0

Verdict = Literal["works", "breaks", ""]


class LoadedMod(NamedTuple):
    """A mod that a log names, as the log writes it; ``version`` is empty where it tells none."""

    mod: str
    version: str = ""


class LogReading(NamedTuple):
    """What a log says. ``verdict`` is empty where no pattern tells it; ``line`` is the line that told it."""

    verdict: Verdict
    line: str
    loaded: tuple[LoadedMod, ...]
    failed: tuple[LoadedMod, ...]


class LogComparison(NamedTuple):
    """A log beside the line-up: mods not loaded, of another version, and failed ones, by their ids.

    ``extra`` are mods that the log names and that are not in the line-up.
    """

    missing: tuple[str, ...]
    outdated: tuple[tuple[str, str, str], ...]
    failed: tuple[str, ...]
    extra: tuple[str, ...]


def read_log(text: str, rules: LogRules) -> LogReading:
    """Read a log by the sheet's patterns. Raises PatternTooSlow."""
    import regex

    deadline = time.monotonic() + _MOST_SECONDS
    lines = text.splitlines()

    def matches(pattern: str) -> list[tuple[str, Mapping[str, str | None]]]:
        found: list[tuple[str, Mapping[str, str | None]]] = []
        for line in lines if pattern else ():
            left = deadline - time.monotonic()
            try:
                match = regex.search(pattern, line, timeout=max(left, 0.001))
            except TimeoutError as error:
                raise PatternTooSlow(
                    f"a pattern of [play] takes more than {_MOST_SECONDS:g} seconds on the game's log",
                    hint="Write one with fewer repeats inside repeats.",
                ) from error
            if match:
                found.append((line, match.groupdict()))
        return found

    works, breaks = matches(rules.works), matches(rules.breaks)
    told = breaks[-1:] or works[-1:]
    verdict: Verdict = "breaks" if breaks else "works" if works else ""
    return LogReading(
        verdict,
        told[0][0].strip() if told else "",
        tuple(_mods(matches(rules.loaded))),
        tuple(_mods(matches(rules.failed))),
    )


def _mods(matches: list[tuple[str, Mapping[str, str | None]]]) -> list[LoadedMod]:
    found = (
        LoadedMod(groups.get("mod") or "", groups.get("version") or "") for _, groups in matches
    )
    return list(dict.fromkeys(each for each in found if each.mod))


def compare_with_line_up(
    reading: LogReading, line_up: Mapping[str, str], own_ids: Mapping[str, str]
) -> LogComparison:
    """Compare what was loaded with a line-up (versions by id). ``own_ids`` are what mods call themselves."""
    ids = {own.casefold(): mod for mod, own in own_ids.items()} | {
        mod.casefold(): mod for mod in line_up
    }
    loaded = {ids.get(each.mod.casefold(), each.mod): each.version for each in reading.loaded}
    failed = [ids.get(each.mod.casefold(), each.mod) for each in reading.failed]
    known = {mod: version for mod, version in loaded.items() if mod in line_up}
    is_told = bool(known)  # a log that names none of them tells nothing
    return LogComparison(
        missing=tuple(
            mod for mod in line_up if is_told and mod not in loaded and mod not in failed
        ),
        outdated=tuple(
            (mod, line_up[mod], version)
            for mod, version in known.items()
            if version and not _same(version, line_up[mod])
        ),
        failed=tuple(mod for mod in dict.fromkeys(failed) if mod in line_up),
        extra=tuple(mod for mod in loaded if is_told and mod not in line_up),
    )


def _same(one: str, other: str) -> bool:
    return one == other or one.lstrip("v") == other.split(" (")[0]
