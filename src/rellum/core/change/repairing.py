"""Repairing what was laid: the same content again, from any source that has it."""

from __future__ import annotations

import os
from collections.abc import Callable, Container, Iterable, Mapping, Set
from typing import TYPE_CHECKING

from rellum.core.change.operations import Found, Keep, LayAgain, Operation, SetAside
from rellum.core.change.plan import Plan
from rellum.core.hashing import Digest
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import State
from rellum.core.values.content import Laid
from rellum.core.values.owners import FOREIGN
from rellum.core.values.paths import PlacePath, Roots, is_in_game, parents

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought

NO_SOURCE = (
    "its archive is not on the shelf: 'rellum fetch' gets it, or 'rellum apply' installs it again"
)


def plan_repairs(
    laid: Mapping[PlacePath, Laid],
    roots: Roots,
    suspects: Container[PlacePath],
    find: Callable[[Laid], Brought | None],
    is_kept: Callable[[Digest], bool],
) -> Plan:
    """Plan so that these files are as they were laid. Raises CannotLay.

    ``suspects`` are hashed whatever their size and time. ``find`` says where else a content comes from that
    the store of originals does not have.
    """
    operations: list[Operation] = []
    left_alone: list[tuple[PlacePath, str]] = []
    for path, row in sorted(laid.items()):
        now, _ = content_at(roots, path, row.content, trusts=path not in suspects)
        if (now.digest if now else None) == (row.content.digest if row.content else None):
            continue
        kept = row.content is None or is_kept(row.content.digest)
        brought = None if kept else find(row)
        if not kept and brought is None:
            left_alone.append((path, NO_SOURCE))
            continue
        operations.append(
            LayAgain(
                path=path,
                found=Found(now, row.owner, is_changed=True),
                row=row,
                after=row.content,
                source=brought,
                keep=Keep() if now else None,
            )
        )
    folders = {folder for each in operations if each.after for folder in parents(each.path)}
    return Plan(
        operations=tuple(operations),
        new_folders=tuple(sorted(f for f in folders if not os.path.isdir(roots.absolute(f)))),
        left_alone=tuple(left_alone),
    )


def plan_away(paths: Iterable[PlacePath], roots: Roots) -> Plan:
    """Plan so that files that are nobody's go. Raises CannotLay."""
    operations: list[Operation] = []
    for path in sorted(paths):
        now, _ = content_at(roots, path, None)
        if now is not None:
            operations.append(SetAside(path, Found(now, FOREIGN)))
    return Plan(operations=tuple(operations))


def plan_own_folders(paths: Set[PlacePath], state: State, roots: Roots) -> Plan:
    """Plan so that lost folders that Rellum had made are there again, with those above and below them."""
    own = (each for each in state.own_folders() if is_in_game(each))
    lost = [each for each in own if not paths.isdisjoint((each, *parents(each)))]
    above = {folder for each in lost for folder in (each, *parents(each))}
    return Plan(new_folders=tuple(sorted(f for f in above if not os.path.isdir(roots.absolute(f)))))


def together(plans: Iterable[Plan]) -> Plan:
    """Return one plan that does what several do, each to paths of its own."""
    plans = list(plans)
    return Plan(
        operations=tuple(
            sorted((op for plan in plans for op in plan.operations), key=lambda op: op.path)
        ),
        noted=tuple(row for plan in plans for row in plan.noted),
        forgotten=tuple(path for plan in plans for path in plan.forgotten),
        new_folders=tuple(sorted({folder for plan in plans for folder in plan.new_folders})),
        spare_folders=tuple(folder for plan in plans for folder in plan.spare_folders),
        left_alone=tuple(each for plan in plans for each in plan.left_alone),
        bases=tuple(base for plan in plans for base in plan.bases),
        kept_too=tuple(each for plan in plans for each in plan.kept_too),
    )
