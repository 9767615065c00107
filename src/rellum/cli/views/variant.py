"""What ``rellum variant`` shows."""

from __future__ import annotations

import os
import shlex
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.cli.documents.change import SwitchDocument, VariantChangedDocument
    from rellum.core.actions.change.switch_variant import Switch, Switched
    from rellum.core.actions.change.variant import VariantRow
    from rellum.core.actions.change.variant_folder import OwnFolder
    from rellum.core.change.request import Request
    from rellum.core.errors import RellumError
    from rellum.core.pack.variants import Variant

_FEW = 5


def show_list(rows: Sequence[VariantRow], *, as_json: bool) -> None:
    if as_json:
        console.say_json(
            {
                "variants": [
                    {
                        "name": each.name,
                        "in_use": each.in_use,
                        "want_count": each.wants,
                        "release_count": each.releases,
                        "last_used": each.last_used or None,
                        "pack_folder": each.pack_folder or None,
                    }
                    for each in rows
                ]
            }
        )
        return
    table = [
        (
            each.name,
            "in use" if each.in_use else "own folder" if each.pack_folder else "-",
            str(each.wants),
            "none yet" if each.releases is None else str(each.releases),
            console.moment_text(each.last_used) or "-",
        )
        for each in rows
    ]
    console.table(("variant", "", "wants", "releases", "last in use"), table, right=(2, 3))


def show_new(made: Variant) -> None:
    console.say(f"Made the variant {made.name}: variants/{made.name}.toml.")
    console.say(f"Next: rellum variant use {made.name}")


def show_own_folder(made: OwnFolder) -> None:
    count = console.count_text(made.files, "vanilla file")
    console.say(f"Made the variant {made.name} with a game folder of its own: {made.game_folder}")
    console.say(f"{count} copied. Its pack is {made.pack_folder}.")
    console.say(f"Next: rellum apply --pack {shlex.quote(os.path.relpath(made.pack_folder))}")


def show_dropped(variant: Variant) -> None:
    console.say(f"Dropped the variant {variant.name}. Backups of its settings and saves stay.")


def show_switch(switch: Switch, *, files: bool, every: bool) -> None:
    """Show what switching would do, mods and the player's files."""
    from rellum.cli.views import plans
    from rellum.cli.views.preview import show_warnings

    plan = switch.preview.plan
    show_warnings(switch.preview)
    if plan.visible:
        if files:
            plans.plan_lines(plan, every=every)
        console.say(plans.plan_summary(plan, switch.preview.space))
    for owner, note in switch.preview.by_hand:
        console.say(f"Check by hand, for {owner}: {note}")
    plans.tell_left_alone(plan.left_alone, "is not as it should be", every=every)
    parking = switch.parking
    if parking.comes_from is None:
        console.say(
            f"{switch.variant} was never in use: it starts with copies of the settings and saves of "
            f"{switch.before}."
        )
    elif parking.operations:
        count = console.count_text(
            len(parking.operations), "of your own files becomes", "of your own files become"
        )
        console.say(f"{count} as {switch.variant} had them; those of {switch.before} are kept.")
    if parking.made_elsewhere:
        makers = Counter(name for _, name in parking.made_elsewhere)
        told = ", ".join(f"{count} under {name}" for name, count in makers.most_common())
        names = ", ".join(shown(path) for path, _ in parking.made_elsewhere[:_FEW])
        more = f" and {len(parking.made_elsewhere) - _FEW} more" * (
            len(parking.made_elsewhere) > _FEW
        )
        console.warn(f"your own files from another variant ({told}) stay: {names}{more}")
    if switch.drift:
        count = console.count_text(len(switch.drift), "other change stays", "other changes stay")
        console.say(f"{count} in the game folder: see 'rellum check'.")


def decide_drift(error: RellumError, request: Request) -> bool:
    """Let the user say what becomes of drift, and do it; return whether it is left as it is."""
    from rellum.core.actions.mend.repair import restore_damaged
    from rellum.core.actions.mend.sweep import sweep

    console.clear_progress()
    console.warn(error.summary)
    for line in error.details:
        console.say(f"  {line}")
    words = (
        "put changed and missing files right",
        "move foreign files out of the game",
        "leave all as it is",
        "stop: 'rellum absorb' makes a mod of it",
    )
    said = console.choose("What becomes of that?", words)
    if said == words[0]:
        restore_damaged(request, lambda _: True)
    elif said == words[1]:
        sweep(request, (), lambda _: True)
    elif said != words[2]:
        raise error
    return said == words[2]


def show_switched(result: Switched, name: str) -> bool:
    """Say what was done; return whether the variant is in use now."""
    switch = result.switch
    if switch is None:
        console.say(f"{name} is in use already.")
        return True
    if not result.done:
        console.say("Nothing was changed.")
        return False
    if result.kept and result.kept.number:
        console.say(f"Settings and saves of {switch.before} are in backup {result.kept.number}.")
    releases = console.count_text(len(switch.preview.lock.releases), "release")
    files = console.count_text(len(switch.preview.plan.visible), "file")
    console.say(f"{name} is in use: {files} changed, {releases} in the game.")
    console.say(f"Back: rellum variant use {switch.before}")
    return True


def changed(
    name: str, *, before: str = "", folder: OwnFolder | None = None
) -> VariantChangedDocument:
    """Return what became of a variant, for programs."""
    return {
        "done": True,
        "variant": name,
        "name_before": before or None,
        "game_folder": folder.game_folder if folder else None,
        "pack_folder": folder.pack_folder if folder else None,
    }


def switched_document(result: Switched, name: str) -> SwitchDocument:
    """Return what a switch did, for programs."""
    from rellum.cli.documents.shared import change_document
    from rellum.core.change.plan import Plan

    switch = result.switch
    return {
        **change_document(switch.preview.plan if switch else Plan(), done=result.done),
        "variant": name,
        "variant_before": switch.before if switch else None,
        "backup": (result.kept.number or None) if result.kept else None,
    }
