"""One spelling for each path of a game that takes ``Data`` and ``data`` for one folder."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from rellum.core.errors import UserError
from rellum.core.layers.model import Brought, Layer, LayerEdit
from rellum.core.values.paths import (
    MemberPath,
    MemberPlace,
    PlacePath,
    TargetPath,
    file_of,
    parents,
    shown,
)


class TwoSpellings(UserError):
    """A release brings two files whose names the game takes for one."""

    code = "two-spellings"


Vanilla = Callable[[Iterable[str]], dict[str, PlacePath]]
"""Returns how the game spells paths, by the path without capitals, where it has capitals in it."""


def spell_alike(layers: Sequence[Layer], vanilla: Vanilla) -> tuple[Layer, ...]:
    """Return the layers with one spelling for each path: the game's, else that of the first layer.

    Raises TwoSpellings.
    """
    speller = _Speller(layers, vanilla)
    return tuple(speller.spelt(layer) for layer in layers)


class _Speller:
    def __init__(self, layers: Sequence[Layer], vanilla: Vanilla) -> None:
        paths = {file_of(path) for layer in layers for path in _paths_of(layer)}
        folded = {each.casefold() for path in paths for each in (path, *parents(path))}
        self._members: dict[str, str] = {}
        self._known: dict[str, str] = dict(vanilla(sorted(folded)))
        self._known |= {each: each for each in folded if each.startswith("@") and "/" not in each}

    def spelt(self, layer: Layer) -> Layer:
        """Return a layer in the known spelling; what is not known yet is from now on."""
        files: dict[TargetPath, Brought] = {}
        for file in layer.files:
            path = self.target(file.path)
            if path in files:
                raise TwoSpellings(
                    f"{layer.owner} brings both {shown(files[path].path)} and {shown(file.path)}, "
                    "which are one file to this game",
                    hint="Leave one of them out, or rename it, in the card.",
                )
            files[path] = file
        return replace(
            layer,
            files=tuple(replace(file, path=path) for path, file in files.items()),
            folders=tuple(map(self.path, layer.folders)),
            edits=tuple(map(self._edit, layer.edits)),
        )

    def path(self, path: PlacePath) -> PlacePath:
        """Return a path part by part in the known spelling."""
        folded = path.casefold()
        if folded not in self._known:
            above, _, name = path.rpartition("/")
            self._known[folded] = f"{self.path(PlacePath(above))}/{name}"
        return PlacePath(self._known[folded])

    def target(self, path: TargetPath) -> TargetPath:
        """Return a path, or a member's, in the known spelling: that of the container, and of the member."""
        if not isinstance(path, MemberPlace):
            return self.path(path)
        known = self._members.setdefault(str(path).casefold(), path.member)
        return MemberPlace(self.path(path.container), MemberPath(known))

    def _edit(self, change: LayerEdit) -> LayerEdit:
        return replace(change, edit=replace(change.edit, path=self.target(change.edit.path)))


def _paths_of(layer: Layer) -> Iterable[TargetPath]:
    yield from (file.path for file in layer.files)
    yield from layer.folders
    yield from (change.edit.path for change in layer.edits)
