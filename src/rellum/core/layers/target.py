"""The target tree: layer over layer, the later in load order wins."""

from __future__ import annotations

from collections.abc import Sequence

from rellum.core.errors import UserError
from rellum.core.layers.model import Layer, Target, TargetFile
from rellum.core.paths import PlacePath, parents, shown


class LayerClash(UserError):
    """Two layers cannot lie over each other: a file of one is a folder of the other."""

    code = "layer-clash"


def lay_over(layers: Sequence[Layer]) -> Target:
    """Lay the layers over one another in load order. Raises LayerClash."""
    files: dict[PlacePath, TargetFile] = {}
    hidden: dict[str, int] = {}
    for layer in layers:
        owner = layer.owner
        for file in layer.files:
            under = files.get(file.path)
            if under is not None and under.owner != owner:
                hidden[under.owner] = hidden.get(under.owner, 0) + 1
            files[file.path] = TargetFile(file=file, owner=owner)
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
