"""``rellum resolve``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options

if TYPE_CHECKING:
    from rellum.core.actions.resolve import ResolveResult
    from rellum.core.pack.lock_file import LockedRelease


def resolve(
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Do not keep to the releases chosen before.")
    ] = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Choose releases that go together and suit the game.

    Writes rellum.lock. Releases chosen before stay while they fit, unless --fresh.
    """
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions.resolve import resolve as action
    from rellum.core.shelf.store import shelf_folder

    result = action(pack, shelf_folder(), tell_recovered, fresh=fresh)
    if as_json:
        console.say_json(_document(result))
        return
    lock = result.lock
    releases = console.count_text(len(lock.releases), "release")
    for_game = f"{lock.sheet} {lock.game_version}"
    console.say(console.styled(f"Line-up for {for_game}: {releases}, in load order", "bold"))
    rows = [
        (
            f"{position}",
            release.mod,
            release.version,
            _change(release, result),
            "wanted" if not release.because else "needed by " + ", ".join(release.because),
        )
        for position, release in enumerate(lock.releases, 1)
    ]
    if rows:
        console.table(("#", "mod", "version", "change", "why"), rows, right=(0,))
    for mod, version in sorted((result.before or {}).items()):
        if mod not in {release.mod for release in lock.releases}:
            console.say(f"{mod} {version} leaves the line-up.")
    if result.missing_files:
        missing = console.count_text(len(result.missing_files), "archive")
        console.say(f"{missing} still to get, and to give to 'rellum take':")
        for release, file in result.missing_files:
            console.say(f"  {file.name}  ({release.mod} {release.version})")
    written = "rellum.lock is written." if result.changed else "rellum.lock was so already."
    console.say(f"{written} See what it does to the game: 'rellum preview'.")


def _change(release: LockedRelease, result: ResolveResult) -> str:
    if result.before is None or release.mod not in result.before:
        return "new"
    before = result.before[release.mod]
    return "as before" if before == release.version else f"was {before}"


def _document(result: ResolveResult) -> dict[str, Any]:
    before = result.before or {}
    return {
        "game": {"sheet": result.lock.sheet, "version": result.lock.game_version.text},
        "changed": result.changed,
        "releases": [
            {
                "mod": release.mod,
                "version": release.version,
                "version_before": before.get(release.mod),
                "needed_by": list(release.because),
                "files": [file.name for file in release.files],
            }
            for release in result.lock.releases
        ],
        "missing_files": [file.name for _, file in result.missing_files],
    }
