"""What ``rellum space`` shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.cli.views.shelf import bytes_of

if TYPE_CHECKING:
    from rellum.core.actions.live.space import Freed, SpaceReport, WayToFree

__all__ = ["bytes_of", "show", "show_freed", "show_ways"]

_MODS = 10
_WIDTH = 16


def show(report: SpaceReport, figure: str, *, as_json: bool) -> None:
    if as_json:
        console.say_json(
            {
                "bytes": report.total,
                "free_bytes": report.free,
                "uses": [
                    {"kind": u.kind, "name": u.name, "file_count": u.files, "bytes": u.bytes}
                    for u in report.uses
                ],
                "mods": [
                    {"mod": mod, "file_count": files, "bytes": size}
                    for mod, files, size in report.mods
                ],
                "ways_to_free": [
                    {"name": way.name, "bytes": way.bytes, "cost": way.cost} for way in report.ways
                ],
                "figure": figure or None,
            }
        )
        return
    most = max((each.bytes for each in report.uses), default=0) or 1
    rows = [
        (
            each.name,
            f"{each.files:,}",
            console.bytes_text(each.bytes),
            _bar(each.bytes / most),
            each.meaning,
        )
        for each in report.uses
    ]
    console.table(("what", "files", "bytes", "", "for"), rows, right=(1, 2))
    total, free = console.bytes_text(report.total), console.bytes_text(report.free)
    console.say(f"{total} in all, {free} free on the game's disk.")
    if report.mods:
        console.say()
        listed = [
            (mod, f"{files:,}", console.bytes_text(size))
            for mod, files, size in report.mods[:_MODS]
        ]
        console.table(("largest mods", "files", "bytes"), listed, right=(1, 2))
    if report.ways:
        console.say()
        show_ways(report.ways, enough=True, heading="could go")
        console.say("'rellum space --free SIZE' frees as much of this as you say, from the top.")
    if figure:
        console.say(f"Drawn in {figure}.")


def _bar(share: float) -> str:
    full = "#" * round(share * _WIDTH)
    return full or ("." if share else "")


def show_ways(ways: Sequence[WayToFree], *, enough: bool, heading: str = "goes") -> None:
    rows = [(way.name, console.bytes_text(way.bytes), way.cost) for way in ways]
    if rows:
        console.table((heading, "bytes", "cost"), rows, right=(1,))
    if not enough:
        console.warn("that is less than you asked for; the rest would have to be got by hand again")


def show_freed(freed: Freed, *, as_json: bool) -> None:
    if as_json:
        console.say_json(
            {"done": freed.done, "freed_bytes": freed.bytes, "is_enough": freed.enough}
        )
    elif freed.done:
        console.say(f"Freed {console.bytes_text(freed.bytes)}.")
    elif not freed.ways:
        console.say("There is nothing that could go.")
    else:
        console.say("Nothing was deleted.")
