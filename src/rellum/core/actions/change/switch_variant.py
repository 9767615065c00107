"""Switching to another variant, in one change; and what differs between two."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

from rellum.core.change.activities import refuse_activities
from rellum.core.change.backing_up import back_up
from rellum.core.change.execute import execute
from rellum.core.change.journal import PackChange
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.preparing import Preparing, Preview
from rellum.core.change.readiness import space_for
from rellum.core.change.request import Request
from rellum.core.change.switching import Parking, plan_parking, with_own_files
from rellum.core.composing.answers import Asking
from rellum.core.folder.model import Finding
from rellum.core.pack.backup import Made
from rellum.core.pack.backups import Backups
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, write_text
from rellum.core.pack.lock_file import LockFile, lock_text
from rellum.core.pack.pack_file import PackFile, asked_hash, read_pack_file
from rellum.core.pack.pack_files import PackFiles
from rellum.core.pack.reread_rules import read_rules_anew
from rellum.core.pack.session import Session
from rellum.core.pack.variants import (
    VANILLA,
    NoVariant,
    Variant,
    exchanged,
    find_variant,
    own_folders,
    variants_of,
)
from rellum.core.shelf.store import Shelf
from rellum.core.values.paths import is_inside, shown
from rellum.core.words import count_words


class SwitchWithDrift(NoVariant):
    """The game folder is not as it was left, and nobody said what becomes of that."""

    code = "switch-with-drift"


class SavesOverlap(NoVariant):
    """The places of two variants lie in one another."""

    code = "saves-overlap"


@dataclass(frozen=True, slots=True, kw_only=True)
class Switch:
    """What switching would do: the change of the mods and of the player's files, as one plan."""

    before: str
    variant: str
    preview: Preview
    parking: Parking
    drift: tuple[Finding, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Switched:
    """What was done; ``kept`` is the backup of what was there. ``switch`` None: it was in use already."""

    switch: Switch | None
    kept: Made | None
    done: bool


Confirm = Callable[[Switch], bool]


def use_variant(
    request: Request,
    name: str,
    confirm: Confirm,
    asking: Asking | None = None,
    *,
    with_drift: bool = False,
) -> Switched:
    """Switch to another variant: its mods, its settings and, where the sheet says, its saves; in one change.

    ``with_drift``: what was changed in the game folder since Rellum left it stays as it is.

    Raises NoVariant, SwitchWithDrift, and what ``apply`` does.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        opened.state.refuse_unfit()
        refuse_activities(opened.home, opened.state, "variant use")
        _refuse_own_folder(opened, name)
        found = find_variant(variants_of(opened.home), name)
        if found.in_use:
            return Switched(switch=None, kept=None, done=True)
        drift = tuple(with_causes(drift_of(opened), opened).findings)
        if drift and not with_drift:
            differences = count_words(len(drift), "difference", "differences")
            raise SwitchWithDrift(
                f"the game folder is not as Rellum left it: {differences}",
                details=tuple(f"{each.kind}: {shown(each.path)}" for each in drift[:10]),
                hint="Decide first: 'rellum absorb' makes a mod of them, 'rellum sweep' moves foreign files "
                "out,\n'rellum restore --damaged' puts changed files right. Or leave them: --with-drift.",
            )
        kept = back_up(
            opened.home,
            opened.rules,
            opened.state,
            opened.roots,
            f"variant use {name}",
            always=True,
        )
        if kept.in_use:
            raise NoVariant(
                f"{kept.in_use[0]} is being written to, so it cannot be kept",
                hint="Leave the game, and switch again. Nothing was changed.",
            )
        with (
            as_if(opened, found) as then,
            Preparing(then, shelf, False, listen=request.listen) as preparing,
            Backups(opened.home.backups_folder) as backups,
        ):
            _refuse_overlap(opened, preparing)
            planned = preparing.decided(asking)
            saves_too = preparing.catalog.sheet.saves_per_variant
            parking = plan_parking(
                opened, preparing.roots, planned.plan, backups, name, saves_too=saves_too
            )
            plan = with_own_files(planned.plan, parking.operations, opened, backups)
            planned = replace(
                planned, plan=plan, space=space_for(plan, opened.home, preparing.roots)
            )
            switch = Switch(
                before=opened.files.pack.variant,
                variant=name,
                preview=planned,
                parking=parking,
                drift=drift,
            )
            if not confirm(switch):
                return Switched(switch=switch, kept=kept, done=False)
            site = opened.site._replace(listen=request.listen, roots=preparing.roots)
            pack = _pack_change(opened, found, planned)
            execute(plan, f"variant use {name}", site, preparing.workshop, pack)
            opened.state.note_idle(planned.lock.names)
        read_rules_anew(PackFiles(opened.home), opened.state, opened.rules)
        return Switched(switch=switch, kept=kept, done=True)


def _refuse_own_folder(opened: Session, name: str) -> None:
    if folder := own_folders(opened.home).get(name):
        raise NoVariant(
            f"{name} has a game folder of its own: nothing is switched for it",
            hint=f"Work on it by its pack: rellum apply --pack {os.path.relpath(folder)}",
        )


def _pack_change(opened: Session, found: Variant, planned: Preview) -> PackChange:
    current = variants_of(opened.home)[0]
    texts = ((PACK_FILE, found.pack_text), (LOCK_FILE, lock_text(planned.lock)))
    return PackChange(
        becoming=texts,
        writes=(PACK_FILE, LOCK_FILE),
        others=exchanged(None if current.name == VANILLA else current, found.name),
        by_last_change=True,
    )


@contextmanager
def as_if(opened: Session, variant: Variant) -> Iterator[Session]:
    """Open the pack with the texts of another variant; nothing of the pack is written."""
    work = os.path.join(opened.home.state_folder, "variant-texts")
    shutil.rmtree(work, ignore_errors=True)
    os.makedirs(work)
    try:
        for name, text in variant.texts:
            write_text(os.path.join(work, name), text)
        home = opened.home._replace(texts_folder=work)
        pack = read_pack_file(home)
        has_no_line_up = variant.lock_text is None and not pack.wants and not pack.grafts
        if variant.name == VANILLA or has_no_line_up:
            write_text(os.path.join(work, LOCK_FILE), lock_text(_empty_lock(opened, pack)))
        yield opened.with_files_of(home)
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _empty_lock(opened: Session, pack: PackFile) -> LockFile:
    identity = opened.state.identity()
    return LockFile(
        asked=asked_hash(pack),
        sheet=identity.sheet,
        game_version=identity.version,
        edition=identity.edition,
        expansions=identity.expansions,
        releases=(),
    )


def _refuse_overlap(opened: Session, preparing: Preparing) -> None:
    """Refuse places of two variants that lie in one another: one's saves would be the other's. Raises."""
    for root, folder in preparing.roots.outside.items():
        before = opened.roots.outside.get(root)
        if before and before != folder and (is_inside(before, folder) or is_inside(folder, before)):
            raise SavesOverlap(
                f"{root} is {before} now and would be {folder}: one lies in the other",
                hint=f"Give each variant a folder of its own: rellum decide place {root[1:]} FOLDER",
            )
