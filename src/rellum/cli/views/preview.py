"""What ``rellum preview`` shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.change import (
        GameUpdateDocument,
        PreviewDocument,
        SameNameDocument,
        SettingsDocument,
        ShapeDocument,
    )
    from rellum.core.actions.change.outline import ReleaseChange
    from rellum.core.change.players_warnings import BrokenSaves
    from rellum.core.change.preparing import Preview
    from rellum.core.change.rebasing import Rebase
    from rellum.core.composing.settling import SettingsConflict
    from rellum.core.layers.slot_shapes import Shape
    from rellum.core.layers.wrappers import SameName


def show_preview(result: Preview, *, files: bool, every: bool, sweeps: bool) -> None:
    """Print a preview for people: file by file if ``files``, and mod by mod."""
    from rellum.cli.views import plans

    if result.rebase:
        _show_rebase(result.rebase)
    elif result.made_anew:
        if result.is_first:
            console.say(
                f"Chose {console.count_text(len(result.lock.releases), 'release')} for the first line-up."
            )
        elif result.newest:
            show_newest(result)
        else:
            console.warn("rellum.toml changed, so a new line-up was chosen")
    show_warnings(result)
    notes = list(_notes(result, every=every, sweeps=sweeps))
    if result.plan.visible:
        if files or every:
            plans.plan_lines(result.plan, every=every)
            for note in _placing_notes(result):
                console.say(note)
            console.say()
        order = [f"{release.mod} {release.version}" for release in result.lock.releases]
        rows = plans.release_rows(result.plan, order)
        console.table(("whose", "new", "replaced", "gone", "bytes"), rows, right=(1, 2, 3, 4))
        notes = ["", *notes] if notes else []
    else:
        console.say("Nothing to do: every file of the line-up is in place.")
    for line in notes:
        console.say(line)
    if result.plan.visible:
        console.say()
        console.say(plans.plan_summary(result.plan, result.space))


def show_warnings(result: Preview) -> None:
    """Say where it lays files outside the game for the first time; warn of grafts that broke, of profiles,
    and of saves that no longer open.
    """
    for place in result.new_places:
        when = f" now; it was {place.before}" if place.before else ""
        first = "" if place.before else ", for the first time"
        console.say(f"Outside the game folder{first}: {place.root} is {place.folder}{when}")
    for warning in _trial_warnings(result):
        console.warn(warning)
    for profile, names in result.profiles:
        console.warn(f"the profile {profile} still names {', '.join(names)}, which go")
    for each in result.broken_saves:
        console.warn(saves_warning(each))


def saves_warning(each: BrokenSaves) -> str:
    """Say which saves a new release does not open, whether there is a way back, and which backup is made."""
    saves = f"saves that were made with {each.mod} {each.before} do not open with {each.after}"
    if each.is_back:
        if not each.fits:
            return f"{saves}, and no backup has older ones"
        from rellum.core.words import quoted

        return f"{saves}; bring back older ones: rellum backup back {quoted(each.fits)}"
    way = (
        "those made with it open with the older one"
        if each.back
        else "there is no way back for those made with it"
    )
    return f"{saves}, and {way}; they are kept first, as the backup {each.backup_name!r}"


def show_outline(changes: Sequence[ReleaseChange]) -> None:
    """Say which releases would come, go or change, and which lack archives."""
    if not changes:
        return
    console.say("Without the missing archives, only the releases can be shown:")
    console.table(
        ("mod", "in the game", "in the line-up", "archives"),
        [
            (
                each.mod,
                each.before or "-",
                each.after or "goes",
                f"{len(each.missing)} missing" if each.missing else "here" if each.after else "-",
            )
            for each in changes
        ],
    )
    console.say()


def show_newest(result: Preview) -> None:
    """Say which releases the mods have that should be as new as can be."""
    labels = {str(each.mod): each.label for each in result.lock.releases}
    for mod in result.newest:
        if mod in labels:
            more = ""
            if beta := dict(result.prereleases).get(mod):
                more = f" {beta} is a pre-release: 'rellum want {mod}@{beta}' asks for it."
            console.say(f"The newest release of {mod} that fits is {labels[mod]}.{more}")
        else:
            console.say(f"{mod} is not in the line-up: nobody wants or needs it.")


def _show_rebase(rebase: Rebase) -> None:
    """Say what the game's update did, and what of it is not known."""
    from rellum.core.values.paths import shown

    told = (
        "its files are known"
        if rebase.known
        else "its files are not known, so they count as vanilla"
    )
    console.say(
        console.styled(
            f"The game was {rebase.before.told_beside(rebase.now)} and is "
            f"{rebase.now.told_beside(rebase.before)} now ({told}):",
            "bold",
        )
    )
    counts = ((rebase.changed, "changed"), (rebase.new, "new"), (rebase.gone, "gone"))
    words = ", ".join(f"{len(paths):,} {word}" for paths, word in counts)
    console.say(f"  vanilla files: {words}")
    if rebase.beside:
        files = console.count_text(len(rebase.beside), "file")
        names = ", ".join(map(shown, rebase.beside[:5])) + (" …" if len(rebase.beside) > 5 else "")
        console.say(
            f"  {files} counted as vanilla and none of {rebase.now.version}: foreign now ({names})"
        )
    if rebase.unsure:
        new = console.count_text(len(rebase.unsure), "new file")
        console.say(f"  {new} in places that mods share may be the game's: left alone, not vanilla")
    if rebase.overwritten:
        owners = sorted({str(each.owner) for each in rebase.overwritten})
        files = console.count_text(len(rebase.overwritten), "file")
        console.say(f"  it put its own over {files} of {', '.join(owners)}")
    if rebase.lacking:
        files = console.count_text(len(rebase.lacking), "file")
        console.warn(
            f"under mods lie {files} of {rebase.before.version} that {rebase.now.version} has otherwise: "
            + ", ".join(map(shown, rebase.lacking[:5]))
        )
    elif rebase.kept and not rebase.known and rebase.before.version != rebase.now.version:
        files = console.count_text(len(rebase.kept), "file of mods was", "files of mods were")
        console.warn(
            f"{files} left by the update; what lies under them is of {rebase.before.version}"
        )
    if rebase.lacking or (rebase.kept and not rebase.known):
        console.say("  To be sure, let the store verify its files, then run 'rellum apply' again.")
    console.say()


def _placing_notes(result: Preview) -> Iterator[str]:
    """Yield how each release is laid that lays something now."""
    touched = {each.owner for each in result.plan.visible}
    yield from (note for owner, note in result.notes if owner in touched)


def _notes(result: Preview, *, every: bool, sweeps: bool) -> Iterator[str]:
    """Yield the notes that go with the files, line by line."""
    from rellum.cli.views.plans import MOST_LINES
    from rellum.core.values.paths import shown

    if result.plan.visible:
        for owner, count in sorted(result.target.hidden.items(), key=lambda row: str(row[0])):
            hidden = console.count_text(count, "file is hidden", "files are hidden")
            yield f"{owner}: {hidden} by other mods: see 'rellum conflicts'."
        for name, note in result.by_hand:
            yield f"Check by hand, for {name}: {note}"
        yield from map(_same_name_line, result.same_names)
        for conflict in result.settings:
            who = {
                "mine": "yours stay",
                "theirs": f"{conflict.whose} wins; a copy of yours is kept",
            }
            outcome = who[conflict.side] if conflict.side else "open: 'apply' asks who wins"
            yield f"{shown(conflict.path)}: settings that both you and a release changed ({outcome})"
            yield from conflict_lines(conflict)
        for path, why in result.plan.left_alone if every else result.plan.left_alone[:MOST_LINES]:
            yield f"{shown(path)}: {why}."
        for shape in result.shapes:
            yield from _shape_lines(shape, every=every)
    if result.leftovers and not sweeps:
        files = console.count_text(len(result.leftovers), "file")
        yield f"{files} left over from older releases; --sweep sets them aside:"
        for each in result.leftovers if every else result.leftovers[:MOST_LINES]:
            yield f"  {shown(each.path)}  ({each.named_by})"


def _same_name_line(found: SameName) -> str:
    """Say how a folder is laid that would come into one of the same name."""
    from rellum.core.values.paths import shown

    into = f"{shown(found.to)}/"
    if found.depth == "once":
        return f"{found.archive}: only what is in its folder {found.folder} goes into {into}, as decided."
    outcome = "as decided" if found.depth else "open: 'apply' asks whether that is one too many"
    return f"{found.archive}: its folder {found.folder} goes into {into} as well ({outcome})."


def _shape_lines(shape: Shape, *, every: bool) -> Iterator[str]:
    """Say how a graft fits its slot, and name what it has nothing for."""
    from rellum.cli.views.plans import MOST_LINES
    from rellum.core.values.paths import shown

    extra = f", {len(shape.extra):,} more than it had" if shape.extra else ""
    total = len(shape.provided) + len(shape.missing)
    yield f"graft {shape.graft}: {len(shape.provided):,} of the slot's {total:,} files{extra}."
    missing = shape.missing if every else shape.missing[:MOST_LINES]
    for path in missing:
        yield f"  nothing for {shown(path)}"
    if len(missing) < len(shape.missing):
        yield f"  … and {len(shape.missing) - len(missing):,} more (--full lists all)"


def _trial_warnings(result: Preview) -> Iterator[str]:
    """Say which grafts broke before."""
    from rellum.core.catalog.toml_lines import place_of

    for trial in result.graft_trials:
        note = f": {trial.note}" if trial.note else ""
        names = ", ".join(trial.grafts)
        yield (
            f"graft {names} broke on game {trial.game}, tried {trial.date}{note} "
            f"({place_of(trial.source)})"
        )


def conflict_lines(conflict: SettingsConflict) -> list[str]:
    """Return what both want, a line a key."""
    return [
        f"  {each.key}: yours = {each.mine or 'gone'}, {conflict.whose} = {each.theirs or 'gone'}"
        for each in conflict.conflicts
    ]


def same_name_document(found: SameName) -> SameNameDocument:
    """Return a folder that may be one too many, for programs."""
    return {
        "archive": found.archive,
        "folder": found.folder,
        "to": str(found.to),
        "depth": found.depth,
    }


def shape_document(shape: Shape) -> ShapeDocument:
    """Return how a donor fits its slot, for programs."""
    return {
        "graft": shape.graft,
        "provided": list(shape.provided),
        "extra": list(shape.extra),
        "missing": list(shape.missing),
    }


def settings_document(conflict: SettingsConflict) -> SettingsDocument:
    """Return a conflict of settings for programs."""
    return {
        "path": conflict.path,
        "owner": str(conflict.whose),
        "side": conflict.side,
        "conflicts": [
            {"key": str(each.key), "mine": _text(each.mine), "theirs": _text(each.theirs)}
            for each in conflict.conflicts
        ],
    }


def _text(value: object) -> str | None:
    return None if value is None else str(value)


def document(result: Preview) -> PreviewDocument:
    """Return a preview for programs."""
    from rellum.cli.documents.shared import left_alone_document, operation_document, owner_document

    return {
        "operations": [operation_document(each) for each in result.plan.visible],
        "left_alone": left_alone_document(result.plan),
        "needed_bytes": result.space.needed,
        "free_bytes": result.space.free,
        "line_up_made_anew": result.made_anew,
        "game_update": _update_document(result.rebase) if result.rebase else None,
        "hidden": [
            {"owner": owner_document(owner), "file_count": count}
            for owner, count in result.target.hidden.items()
        ],
        "new_places": [{"place": each.root, "folder": each.folder} for each in result.new_places],
        "check_by_hand": [{"owner": str(owner), "text": note} for owner, note in result.by_hand],
        "notes": [{"owner": str(owner), "text": note} for owner, note in result.notes],
        "broken_saves": [
            {
                "mod": each.mod,
                "version_before": each.before,
                "version": each.after,
                "opens_back": bool(each.back),
            }
            for each in result.broken_saves
        ],
        "leftovers": [each.path for each in result.leftovers],
        "grafts": [shape_document(each) for each in result.shapes],
        "settings": [settings_document(each) for each in result.settings],
        "same_names": [same_name_document(each) for each in result.same_names],
    }


def _update_document(rebase: Rebase) -> GameUpdateDocument:
    return {
        "version_before": rebase.before.version.text,
        "version": rebase.now.version.text,
        "changed": list(rebase.changed),
        "new": list(rebase.new),
        "gone": list(rebase.gone),
        "overwritten": [each.path for each in rebase.overwritten],
        "lacking": list(rebase.lacking),
        "beside": list(rebase.beside),
    }
