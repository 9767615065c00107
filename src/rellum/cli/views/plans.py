"""From result values to lines for people and documents for programs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.change.operations import returned_with, source_of
from rellum.core.values.owners import FOREIGN
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.core.change.operations import Operation
    from rellum.core.change.plan import Plan
    from rellum.core.change.readiness import Space
    from rellum.core.folder.identity import Identity
    from rellum.core.patching.container import Rebuilt
    from rellum.core.values.paths import PlacePath

MOST_LINES = 30
"""How many files a list shows unless all are asked for."""

_WORDS = {
    "new": "new",
    "replaces vanilla": "over vanilla",
    "replaces": "over",
    "mends": "mended",
    "brings back": "back",
    "removes": "goes",
    "sets aside": "aside",
}


def game_line(identity: Identity) -> str:
    """Return what a game is, on one line."""
    parts = [f"{identity.name} {identity.version}"]
    if identity.edition:
        parts.append(f"{identity.edition} edition")
    if identity.expansions:
        parts.append("with " + ", ".join(identity.expansions))
    return ", ".join(parts)


def plan_lines(plan: Plan, *, every: bool) -> None:
    """Print a plan file by file."""
    operations = plan.visible
    shown_ones = operations if every else operations[:MOST_LINES]
    rows = [
        (_word(each), shown(each.path), console.bytes_text(bytes_of(each)), _remark(each))
        for each in shown_ones
    ]
    console.table(("what", "file", "size", "whose"), rows, right=(2,))
    for each in shown_ones:
        if members := members_text(each):
            console.say(f"{shown(each.path)}: {members}")
    if len(operations) > len(shown_ones):
        console.say(f"… and {len(operations) - len(shown_ones):,} more (--full lists every file)")


def rebuilt_of(operation: Operation) -> Rebuilt | None:
    """Return what becomes of a container's members; None where it is not one that is made."""
    notes = getattr(source_of(operation), "notes", "")
    if not notes:
        return None
    from rellum.core.patching.container import Rebuilt

    return Rebuilt.from_notes(notes)


def members_text(operation: Operation) -> str:
    """Return what becomes of a container's members; nothing where it is not one that is made."""
    made = rebuilt_of(operation)
    if made is None:
        return ""
    counts = (
        (len(made.added), "added"),
        (len(made.replaced), "replaced"),
        (len(made.removed), "removed"),
        (len(made.dropped), "dropped"),
    )
    parts = [f"{count:,} {word}" for count, word in counts if count]
    first = console.count_text(next((count for count, _ in counts if count), 0), "member")
    return ", ".join([f"{first} {parts[0].split()[1]}", *parts[1:]]) if parts else ""


def _word(operation: Operation) -> str:
    return _WORDS[operation.effect]


def bytes_of(operation: Operation) -> int:
    """Return the bytes of what an operation lays, or takes away."""
    content = operation.after or operation.found.content
    return content.size if content else 0


def _remark(operation: Operation) -> str:
    owner, found = operation.owner, operation.found
    mod = operation.keep.for_mod if operation.keep else returned_with(operation)
    remark = str(owner)
    if operation.effect == "replaces vanilla":
        remark += f" ({'not as adopted, kept' if found.is_changed else 'original kept'})"
    elif operation.effect == "replaces":
        if found.owner != owner:
            remark += f", over {found.owner}"
    elif operation.effect == "sets aside":
        if mod:
            return f"yours; comes back with {mod}"
        return "left over from older releases; moved out, as 'sweep' does"
    elif returned_with(operation):
        return f"yours, set aside when {mod} went"
    elif operation.effect == "removes":
        remark = f"for {owner}" if owner else str(found.owner)
    elif operation.effect == "brings back":
        remark += f", in place of {found.owner}"
    if operation.keep:
        remark += "; it was changed, a copy is kept"
    return remark


_ROOM_FOR_SPACE = 60
"""A longer sentence has the space on a line of its own."""


def plan_summary(plan: Plan, space: Space) -> str:
    """Return a plan in one sentence."""
    counts: dict[str, int] = {}
    for each in plan.visible:
        counts[each.effect] = counts.get(each.effect, 0) + 1
    words = [
        f"{counts[effect]:,} {word}"
        for effect, word in (
            ("new", "new"),
            ("replaces vanilla", "over vanilla"),
            ("replaces", "replaced"),
            ("mends", "mended"),
            ("brings back", "brought back"),
            ("removes", "removed"),
            ("sets aside", "of yours set aside"),
        )
        if effect in counts
    ]
    files = console.count_text(len(plan.visible), "file")
    needed, free = console.bytes_text(space.needed), console.bytes_text(space.free)
    what = f"{files}: {', '.join(words)}."
    end = "\n" if len(what) > _ROOM_FOR_SPACE else " "
    return f"{what}{end}Space needed {needed}, free {free}."


def tell_kept(plan: Plan) -> None:
    """Say which files have kept copies: they had been changed, or they leave with their mod."""
    kept = [each for each in plan.visible if each.keep and each.found.content]
    for each in kept[:MOST_LINES]:
        what = "had been changed; a copy of that is kept"
        if each.keep and each.keep.for_mod:
            what = f"is kept until {each.keep.for_mod} comes back"
        elif each.effect == "sets aside":
            what = "is set aside; a copy is kept"
        console.say(f"{shown(each.path)} {what}")
    if len(kept) > MOST_LINES:
        console.say(f"… and {len(kept) - MOST_LINES:,} more")
    if kept:
        console.say("'rellum kept' lists the copies and brings them back.")


def tell_left_alone(
    left_alone: Sequence[tuple[PlacePath, str]], words: str, *, every: bool = False
) -> None:
    """Warn of files that are not as they should be: one by one, or by reason where there are many.

    That the player's own stays is as it should be, and is only said.
    """
    from rellum.core.change.planning import STAYS_YOURS

    yours = [path for path, why in left_alone if why == STAYS_YOURS]
    tell_paths(yours, "Your own files, which a mod would change, stay as they are:")
    left_alone = [each for each in left_alone if each[1] != STAYS_YOURS]
    if every or len(left_alone) <= MOST_LINES:
        for path, why in left_alone:
            console.warn(f"{shown(path)} {words}: {why}")
        return
    by_reason: dict[str, list[PlacePath]] = {}
    for path, why in left_alone:
        by_reason.setdefault(why, []).append(path)
    for why, paths in by_reason.items():
        first = ", ".join(map(shown, paths[:3])) + (" …" if len(paths) > 3 else "")
        console.warn(f"{console.count_text(len(paths), 'file')} {words}: {why}: {first}")


def tell_paths(paths: Sequence[PlacePath], heading: str, *, most: int = 20) -> None:
    """Print a heading and the paths under it, as far as there is room; nothing where there are none."""
    if not paths:
        return
    console.say(heading)
    for path in paths[:most]:
        console.say(f"  {console.one_line(shown(path))}")
    if len(paths) > most:
        console.say(f"  … and {len(paths) - most:,} more")


def release_rows(plan: Plan, load_order: Sequence[str]) -> list[tuple[str, ...]]:
    """Return, for each owner, how many files come, are replaced and go, and the bytes.

    Owners stand in load order; those that are leaving come last.
    """
    owners: dict[str, list[int]] = {}
    for each in plan.visible:
        owner = each.owner or each.found.owner
        row = owners.setdefault("yours" if owner is FOREIGN else str(owner), [0, 0, 0, 0])
        column = {"new": 0, "removes": 2, "sets aside": 2}.get(each.effect, 1)
        row[column] += 1
        if each.after:
            row[3] += each.after.size
    return [
        (owner, *(f"{n:,}" if n else "-" for n in row[:3]), console.bytes_text(row[3]))
        for owner, row in sorted(owners.items(), key=lambda item: _rank(item[0], load_order))
    ]


def _rank(owner: str, load_order: Sequence[str]) -> int:
    return load_order.index(owner) if owner in load_order else len(load_order)
