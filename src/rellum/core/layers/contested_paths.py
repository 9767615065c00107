"""Paths that more than one mod brings: who wins each, and who is hidden by whom."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from rellum.core.layers.model import Brought, Layer
from rellum.core.values.ids import ModId
from rellum.core.values.paths import TargetPath

Winner = Callable[[TargetPath], "ModId | None"]
"""Return the mod that the pack chose for a path; None where load order decides."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Conflict:
    """One path: the mods that bring it in load order, the one that wins, those that then edit it.

    ``is_chosen``: the pack says so, and not the load order. ``is_same``: all bring the same content.
    """

    path: TargetPath
    mods: tuple[ModId, ...]
    winner: ModId
    edited_by: tuple[ModId, ...]
    is_chosen: bool
    is_same: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Share:
    """How many files a mod brings, and how many of them others hide with other content."""

    mod: ModId
    brings: int
    hidden: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Conflicts:
    """All conflicts by path, and what each mod has of its files left, in load order."""

    conflicts: tuple[Conflict, ...]
    shares: tuple[Share, ...]

    def hidden_by(self) -> Counter[tuple[ModId, ModId]]:
        """Return how many files of the first mod the second hides with other content."""
        return Counter(
            (mod, each.winner)
            for each in self.conflicts
            if not each.is_same
            for mod in each.mods
            if mod != each.winner
        )


def find_conflicts(layers: Sequence[Layer], winner: Winner) -> Conflicts:
    """Return what the layers of a line-up, in load order, bring more than once."""
    brought: dict[TargetPath, dict[ModId, Brought]] = {}
    edits: dict[TargetPath, list[ModId]] = {}
    for layer in layers:
        for file in layer.files:
            by_mod = brought.setdefault(file.path, {})
            by_mod.pop(layer.mod, None)  # a patch brings it again, later
            by_mod[layer.mod] = file
        for change in layer.edits:
            edits.setdefault(change.edit.path, []).append(layer.mod)
    conflicts = tuple(
        _conflict(path, by_mod, winner(path), edits.get(path, ()))
        for path, by_mod in sorted(brought.items(), key=lambda each: str(each[0]))
        if len(by_mod) > 1
    )
    hidden = Counter(
        mod for each in conflicts if not each.is_same for mod in each.mods if mod != each.winner
    )
    brings = Counter(mod for by_mod in brought.values() for mod in by_mod)
    order = dict.fromkeys(layer.mod for layer in layers)
    return Conflicts(
        conflicts=conflicts,
        shares=tuple(Share(mod=mod, brings=brings[mod], hidden=hidden[mod]) for mod in order),
    )


def _conflict(
    path: TargetPath,
    by_mod: dict[ModId, Brought],
    chosen: ModId | None,
    edited_by: Sequence[ModId],
) -> Conflict:
    mods = tuple(by_mod)
    is_chosen = chosen in by_mod
    return Conflict(
        path=path,
        mods=mods,
        winner=chosen if chosen in by_mod and chosen is not None else mods[-1],
        edited_by=tuple(dict.fromkeys(edited_by)),
        is_chosen=is_chosen,
        is_same=len({file.digest for file in by_mod.values()}) == 1,
    )
