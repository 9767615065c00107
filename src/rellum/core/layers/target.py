"""The target tree: layer over layer, the later in load order wins."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from rellum.core.errors import UserError
from rellum.core.ids import ModId
from rellum.core.layers.conflicts import Winner
from rellum.core.layers.model import Layer, LayerEdit, MadeFile, Target, TargetFile
from rellum.core.paths import PlacePath, parents, shown


class LayerClash(UserError):
    """Two layers cannot lie over each other: a file of one is a folder of the other."""

    code = "layer-clash"


Edit = Callable[[LayerEdit, "TargetFile | None"], MadeFile]
"""Makes an edited file from what the layers so far have at its path (None: what the game has)."""


def lay_over(layers: Sequence[Layer], edit: Edit, winner: Winner) -> Target:
    """Lay the layers over one another in load order; each one's edits go over all before them.

    A path goes to the last mod that brings it, unless ``winner`` names another that does.
    Raises LayerClash, and what ``edit`` raises.
    """
    files: dict[PlacePath, TargetFile] = {}
    mods: dict[PlacePath, ModId] = {}
    hidden: dict[str, int] = {}
    for layer in layers:
        owner = layer.owner
        for file in layer.files:
            under = files.get(file.path)
            if under is not None and under.owner != owner:
                chosen = winner(file.path)
                stays = chosen is not None and mods.get(file.path) == chosen
                loser = owner if stays else under.owner
                hidden[loser] = hidden.get(loser, 0) + 1
                if stays:
                    continue
            mods[file.path] = layer.mod
            files[file.path] = TargetFile(file=file, owner=owner)
        for change in layer.edits:
            made = edit(change, files.get(change.edit.path))
            files[made.path] = TargetFile(file=made, owner=owner)
    _refuse_files_as_folders(files)
    return Target(files=files, hidden=hidden)


def _refuse_files_as_folders(files: dict[PlacePath, TargetFile]) -> None:
    checked: set[PlacePath] = set()
    for path, target in files.items():
        for folder in parents(path):
            if folder in checked:
                break
            checked.add(folder)
            if folder in files:
                raise LayerClash(
                    f"{shown(folder)} is a file of {files[folder].owner} "
                    f"and a folder of {target.owner}",
                    hint="One of them must go: drop a mod, or correct 'to' in its card.",
                )
