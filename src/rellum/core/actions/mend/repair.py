"""Repair: fix only what a check finds wrong, in vanilla files and in mods' files."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

from rellum.core.actions.mend.restore import (
    Confirm,
    Restoration,
    RestoreResult,
    carry_out,
    drifted_paths,
    going_on,
)
from rellum.core.change.learning import learn_vanilla
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.plan import Plan
from rellum.core.change.preparing import Preparing
from rellum.core.change.readiness import space_for
from rellum.core.change.repairing import plan_away, plan_own_folders, plan_repairs, together
from rellum.core.change.request import Request
from rellum.core.change.staging import NoSources, Sources
from rellum.core.change.supplies import supplies, supply, supply_contents, supply_from_stores
from rellum.core.change.target_plans import plan_vanilla
from rellum.core.composing.workshop import Workshop
from rellum.core.errors import UserError
from rellum.core.folder.model import Drift
from rellum.core.hashing import Digest
from rellum.core.layers.model import Brought, DiskFile, LayerFile, TargetFile
from rellum.core.pack.session import Session
from rellum.core.pack.standing import content_at
from rellum.core.shelf.store import Shelf
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import PlacePath


def restore_damaged(request: Request, confirm: Confirm, *, source: str = "") -> RestoreResult:
    """Put right what a check finds changed or missing: vanilla from originals, mods from the shelf.

    ``source`` has originals that Rellum never saw. Foreign files stay. Raises NoSupply, RolledBack.
    """

    def work(opened: Session) -> RestoreResult:
        drift = with_causes(drift_of(opened), opened)
        paths = drifted_paths(drift, opened.state)
        of_update = _of_update(drift) if not source else set()
        paths -= of_update
        rows = opened.state.laid(paths)
        laid = {path: row for path, row in rows.items() if row.owner != RELLUM}
        vanilla = paths - laid.keys()
        # A file that is only spelt in other capitals is its own source: it is put into the store.
        moved, at_hand = _spelt_otherwise(drift, rows, opened)

        def is_kept(digest: Digest) -> bool:
            return digest in at_hand or opened.site.originals.has(digest)

        if source:
            learn_vanilla(opened, source)
            supply(opened, source, sorted(vanilla))
            supply_contents(opened, source, _lost_originals(opened))
        wanted = {**_lost_originals(opened), **_contents(opened, vanilla)}
        supply_from_stores(opened, request.shelf_folder, wanted)
        with supplies(opened), _where_from(opened, request.shelf_folder, laid) as (find, sources):
            plan = together(
                (
                    plan_vanilla(vanilla, opened.state, opened.roots, is_kept),
                    plan_repairs(laid, opened.roots, opened.state.suspects(), find, is_kept),
                    plan_away(moved.values(), opened.roots),
                    plan_own_folders(paths, opened.state, opened.roots),
                    Plan(left_alone=tuple((path, _NEW) for path in sorted(of_update))),
                )
            )
            foreign = {each.path for each in drift.findings if each.kind == "foreign"}
            left = tuple(sorted(foreign - set(moved.values())))
            space = space_for(plan, opened.home, opened.roots)
            restoration = Restoration(plan=plan, space=space, foreign=left, yours=drift.own_changes)
            return carry_out(opened, restoration, confirm, sources)

    with open_pack(request) as opened:
        return going_on(work, opened)


_NEW = "it may be of the game's update, which 'rellum apply' takes over"


def _of_update(drift: Drift) -> set[PlacePath]:
    """Return what an update of the game changed: only a clean copy of the old version puts it back."""
    return {each.path for each in drift.findings if each.cause in ("game-update", "half-updated")}


def _lost_originals(opened: Session) -> dict[PlacePath, Content]:
    """Return what lies under files of mods and is not in the store any more, or is damaged there."""
    store = opened.site.originals
    under = {row.path: row.under for row in opened.state.laid().values() if row.under}
    return {path: each for path, each in under.items() if not store.is_whole(each.digest)}


def _contents(opened: Session, paths: set[PlacePath]) -> dict[PlacePath, Content]:
    vanilla = opened.state.baseline(paths)
    return {path: entry.content for path, entry in vanilla.items() if entry.content}


def _content_of(path: PlacePath, rows: Mapping[PlacePath, Laid], opened: Session) -> Content | None:
    if path in rows:
        return rows[path].content
    entry = opened.state.baseline([path]).get(path)
    return entry.content if entry else None


def _spelt_otherwise(
    drift: Drift, rows: Mapping[PlacePath, Laid], opened: Session
) -> tuple[dict[PlacePath, PlacePath], set[Digest]]:
    """Return under which path each file stands that is only spelt in other capitals, and the contents.

    Where the file system takes both for one there is nothing to move; a file whose content is another, too,
    is not the one that is missing.
    """
    found, contents = {}, set()
    for each in drift.findings:
        if each.stands_as is None or os.path.lexists(opened.roots.absolute(each.path)):
            continue
        wanted = _content_of(each.path, rows, opened)
        now, _ = content_at(opened.roots, each.stands_as, None)
        if wanted and now and wanted.digest == now.digest:
            found[each.path] = each.stands_as
            contents.add(now.digest)
    return found, contents


Find = Callable[[Laid], "Brought | None"]


@contextmanager
def _where_from(
    opened: Session, shelf_folder: str, laid: Mapping[PlacePath, Laid]
) -> Iterator[tuple[Find, Sources]]:
    """Give what says where laid contents come from: what apply would lay there, else the shelf."""
    if not laid:
        yield lambda _: None, NoSources()
        return
    with Shelf(shelf_folder) as shelf:
        try:
            preparing = Preparing(opened, shelf, sweeps=False, as_noted=True)
        except (
            UserError
        ):  # sheet, cards or rellum.toml are not to be read: the shelf may have it all the same
            with Workshop(opened, shelf, opened.roots, opened.rules.path_rules) as workshop:
                yield _Members(shelf, laid).find, workshop
            return
        with preparing:
            files = _wanted_files(preparing)
            members = _Members(shelf, laid)

            def find(row: Laid) -> Brought | None:
                assert row.content is not None
                file = files.get(row.path)
                if (
                    file
                    and isinstance(file.file, Brought)
                    and file.file.digest == row.content.digest
                ):
                    return file.file
                return members.find(row)

            yield find, preparing.workshop


def _wanted_files(preparing: Preparing) -> dict[PlacePath, TargetFile]:
    try:
        return dict(preparing.preview().target.files)
    except UserError:  # no line-up, archives missing: the shelf may have the content all the same
        return {}


class _Members:
    """Contents in archives of the shelf; looked through once, when the first is asked for."""

    def __init__(self, shelf: Shelf, laid: Mapping[PlacePath, Laid]) -> None:
        self._shelf = shelf
        self._wanted = {row.content.digest for row in laid.values() if row.content}
        self._found: dict[Digest, Brought] | None = None

    def find(self, row: Laid) -> Brought | None:
        """Return a member, or an archive laid packed, with the content that was laid."""
        if self._found is None:
            self._found = {
                entry.digest: DiskFile(
                    path=row.path,
                    file=self._shelf.path_of(entry.digest),
                    digest=entry.digest,
                    size=entry.size,
                )
                for entry in self._shelf.index.all()
                if entry.digest in self._wanted
            }
            self._found |= {
                member.digest: LayerFile(path=row.path, archive=entry.digest, member=member)
                for entry in self._shelf.index.all()
                for member in self._shelf.members(entry.digest)
                if member.digest in self._wanted
            }
        return self._found.get(row.content.digest) if row.content else None
