"""What ``rellum resolve`` shows."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.match import ResolveDocument
    from rellum.core.actions.match.resolve import ResolveResult
    from rellum.core.catalog.model import Mod, OptionGroup
    from rellum.core.pack.lock_file import LockedRelease


def choose(mod: Mod, group: OptionGroup) -> str | None:
    """Ask once what no card has a default for."""
    return console.choose(f"{mod.name}: which {group.id}?", [each.id for each in group.choices])


def change_word(release: LockedRelease, result: ResolveResult) -> str:
    if result.before is None or release.mod not in result.before:
        return "new"
    before = result.before[release.mod]
    return "as before" if before == release.label else f"was {before}"


def why_text(release: LockedRelease) -> str:
    parts = ["wanted" if not release.because else "needed by " + ", ".join(release.because)]
    parts += [f"{group} = {', '.join(chosen) or 'none'}" for group, chosen in release.options]
    if release.trial:
        parts.append("on trial")
    return "; ".join(parts)


def document(result: ResolveResult) -> ResolveDocument:
    """Return the line-up for programs."""
    from rellum.cli.documents.shared import release_document

    before = result.before or {}
    return {
        "game": {
            "sheet": result.lock.sheet,
            "version": result.lock.game_version.text,
            "edition": result.lock.edition,
            "expansions": list(result.lock.expansions),
        },
        "changed": result.changed,
        "releases": [
            {
                "release": release_document(release.name),
                "version_before": before.get(release.mod),
                "needed_by": list(release.because),
                "options": [
                    {"group": group, "choices": list(chosen)} for group, chosen in release.options
                ],
                "rests_on": release.trial or None,
                "files": [file.name for file in release.files],
            }
            for release in result.lock.releases
        ],
        "left_out": list(result.left_out),
        "check_by_hand": [{"mod": mod, "text": note} for mod, note in result.notes],
        "missing_files": [each.file.name for each in result.missing_files],
    }


class Told(NamedTuple):
    """What is told of a line-up: a heading, the rows of its table, and the lines below that."""

    heading: str
    rows: list[tuple[str, ...]]
    lines: list[str]


def show(result: ResolveResult) -> None:
    """Show the line-up, what changed in it, and what is still to be done."""
    _show(_told(result))


def tell_again(result: ResolveResult) -> str:
    """Return what is to be told of a line-up another time, for ``show_again``."""
    from msgspec.json import encode  # json takes ten times as long over thousands of releases

    return encode({"document": document(result), "told": _told(result)}).decode()


def show_again(text: str, *, as_json: bool) -> None:
    """Show what ``tell_again`` returned."""
    found = json.loads(text)
    if as_json:
        console.say_json(found["document"])
    else:
        _show(Told(*found["told"]))


def _show(told: Told) -> None:
    console.say(console.styled(told.heading, "bold"))
    if told.rows:
        console.table(("#", "mod", "version", "change", "why"), told.rows, right=(0,))
    for line in told.lines:
        console.say(line)


def _told(result: ResolveResult) -> Told:
    lock = result.lock
    releases = console.count_text(len(lock.releases), "release")
    rows: list[tuple[str, ...]] = [
        (
            f"{position}",
            release.mod,
            release.label,
            change_word(release, result),
            why_text(release),
        )
        for position, release in enumerate(lock.releases, 1)
    ]
    heading = f"Line-up for {lock.sheet} {lock.game_version}: {releases}, in load order"
    return Told(heading, rows, list(_lines(result)))


def _lines(result: ResolveResult) -> Iterator[str]:
    """Yield what is to be said below the table."""
    from rellum.cli.views.plans import MOST_LINES

    lock = result.lock
    for release in lock.releases:
        if release.trial:
            yield f"{release.mod} {release.label} rests on a trial: {release.trial}."
    for mod in result.left_out:
        yield f"{mod} is optional and was left out: see 'rellum why {mod}'."
    for mod, group in result.unchosen:
        yield (
            f"{mod} has no default for {group.id}; choose with "
            f"'rellum want {mod} --option {group.id}={group.choices[0].id}', or another."
        )
    for mod, note in result.notes:
        yield f"Check by hand, for {mod}: {note}"
    chosen = {release.mod for release in lock.releases}
    for mod, version in sorted((result.before or {}).items()):
        if mod not in chosen:
            yield f"{mod} {version} leaves the line-up."
    if result.missing_files:
        missing = console.count_text(len(result.missing_files), "archive")
        yield f"{missing} to download ('rellum fetch', or by hand and 'rellum take'):"
        for each in result.missing_files[:MOST_LINES]:
            yield f"  {each.file.name}  ({each.release.name})"
        if len(result.missing_files) > MOST_LINES:
            yield f"  … and {len(result.missing_files) - MOST_LINES:,} more (--json has all)"
    if result.is_for_other_game:
        yield (
            f"This line-up is for game {lock.game_version}: bring the game there before 'apply'."
        )
    written = "Wrote rellum.lock." if result.changed else "rellum.lock is unchanged."
    yield f"{written} Next: 'rellum preview' shows what changes in the game."
