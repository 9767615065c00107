"""What ``rellum resolve`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

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


def tell_refused() -> None:
    """Say on a terminal, before why is known, that there is no line-up."""
    if console.is_interactive():
        console.note("no line-up exists; looking for the shortest reason and what would help")


def show(result: ResolveResult) -> None:
    """Show the line-up, what changed in it, and what is still to be done."""
    from rellum.cli.views.plans import MOST_LINES

    lock = result.lock
    releases = console.count_text(len(lock.releases), "release")
    for_game = f"{lock.sheet} {lock.game_version}"
    console.say(console.styled(f"Line-up for {for_game}: {releases}, in load order", "bold"))
    rows = [
        (
            f"{position}",
            release.mod,
            release.label,
            change_word(release, result),
            why_text(release),
        )
        for position, release in enumerate(lock.releases, 1)
    ]
    if rows:
        console.table(("#", "mod", "version", "change", "why"), rows, right=(0,))
    for release in lock.releases:
        if release.trial:
            console.say(f"{release.mod} {release.label} rests on a trial: {release.trial}.")
    for mod in result.left_out:
        console.say(f"{mod} is optional and was left out: see 'rellum why {mod}'.")
    for mod, group in result.unchosen:
        console.say(
            f"{mod} has no default for {group.id}; choose with "
            f"'rellum want {mod} --option {group.id}={group.choices[0].id}', or another."
        )
    for mod, note in result.notes:
        console.say(f"Check by hand, for {mod}: {note}")
    chosen = {release.mod for release in lock.releases}
    for mod, version in sorted((result.before or {}).items()):
        if mod not in chosen:
            console.say(f"{mod} {version} leaves the line-up.")
    if result.missing_files:
        missing = console.count_text(len(result.missing_files), "archive")
        console.say(f"{missing} to download ('rellum fetch', or by hand and 'rellum take'):")
        for each in result.missing_files[:MOST_LINES]:
            console.say(f"  {each.file.name}  ({each.release.name})")
        if len(result.missing_files) > MOST_LINES:
            console.say(f"  … and {len(result.missing_files) - MOST_LINES:,} more (--json has all)")
    if result.is_for_other_game:
        console.say(
            f"This line-up is for game {lock.game_version}: bring the game there before 'apply'."
        )
    written = "Wrote rellum.lock." if result.changed else "rellum.lock is unchanged."
    console.say(f"{written} Next: 'rellum preview' shows what changes in the game.")
