"""The target tree: layer over layer, the later in load order wins."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Protocol

from rellum.core.errors import UserError
from rellum.core.layers.contested_paths import Winner
from rellum.core.layers.model import (
    Brought,
    Layer,
    LayerEdit,
    Removal,
    Target,
    TargetFile,
    never_the_users,
)
from rellum.core.values.ids import ModId
from rellum.core.values.owners import Owner
from rellum.core.values.path_rules import EXACT, PathRules
from rellum.core.values.paths import (
    MemberPath,
    MemberPlace,
    PlacePath,
    TargetPath,
    container_pattern,
    file_of,
    parents,
    shown,
)


class LayerClash(UserError):
    """Two layers cannot lie over each other: a file of one is a folder of the other."""

    code = "layer-clash"


Members = Mapping[MemberPath, Brought | Removal]


class Maker(Protocol):
    """Makes what cannot be laid as it comes."""

    def edit(self, change: LayerEdit, below: Brought | None, container: Brought | None) -> Brought:
        """Return a file edited; ``below`` is what layers brought there, None: what the game has.

        ``container`` is what layers brought in which a member lies; None: that of the game.
        """

    def foresee(self, edits: Iterable[tuple[LayerEdit, Brought | None]]) -> None:
        """Hear of all edits to come, each with what a layer brings under it, if that is known yet."""

    def rebuild(self, container: PlacePath, below: Brought | None, members: Members) -> Brought:
        """Return a container with members added, replaced and removed."""

    def vanilla(self, pattern: str) -> Iterable[TargetPath]:
        """Return what the game has that fits a pattern."""

    def is_the_users(self, path: TargetPath) -> bool:
        """Whether a file that no layer brings is the user's own, and none of the game's."""


def lay_over(
    layers: Sequence[Layer], maker: Maker, winner: Winner, rules: PathRules = EXACT
) -> Target:
    """Lay the layers over one another in load order; each one's edits go over all before them.

    A path goes to the last mod that brings it, unless ``winner`` names another that does.
    ``rules`` say how patterns of what is removed fit. Raises
    LayerClash, and what ``maker`` raises.
    """
    maker.foresee(_edits_over(layers))
    tree = _Tree(maker, winner, rules)
    for layer in layers:
        tree.lay(layer)
    files = tree.with_containers([layer.owner for layer in layers])
    _refuse_files_as_folders(files)
    return Target(
        files=files,
        hidden=tree.hidden,
        folders=frozenset(folder for layer in layers for folder in layer.folders),
    )


def _edits_over(layers: Sequence[Layer]) -> Iterator[tuple[LayerEdit, Brought | None]]:
    """Yield every edit with the file of a layer that lies under it; None where that is not known yet."""
    edited = {change.edit.path for layer in layers for change in layer.edits}
    files: dict[TargetPath, Brought] = {}
    for layer in layers if edited else ():
        files |= {file.path: file for file in layer.files if file.path in edited}
        for change in layer.edits:
            yield change, files.pop(change.edit.path, None)


class _Tree:
    """The tree as far as it is laid."""

    def __init__(self, maker: Maker, winner: Winner, rules: PathRules) -> None:
        self.maker = maker
        self.rules = rules
        self.winner = winner
        self.files: dict[TargetPath, TargetFile] = {}
        self.hidden: dict[Owner, int] = {}
        self._mods: dict[Owner, ModId] = {}

    def lay(self, layer: Layer) -> None:
        """Lay one layer over those before it. Written for speed: it runs once for every path."""
        self._mods[layer.owner] = layer.mod
        for pattern in layer.removes:
            self._remove(pattern, layer.owner)
        files, owner, update = self.files, layer.owner, layer.update
        has_roles = update is not never_the_users
        for file in layer.files:
            path = file.path
            if path in files and self._stays(path, layer):
                continue
            files[path] = TargetFile(file, owner, update(path) if has_roles else "")
        for change in layer.edits:
            path = change.edit.path
            below = files.get(path)
            container = self._brought(path.container) if isinstance(path, MemberPlace) else None
            made = self.maker.edit(change, self._brought(path), container)
            if change.edit.part and change.edit.part.is_gone:
                self._remove(str(path), owner)
                continue
            # The user's own file goes on being written: what was set in it is merged, and can be taken out.
            is_users = below.is_users if below else self.maker.is_the_users(path)
            files[path] = TargetFile(
                made, owner, "merge" if is_users else update(path), is_users=is_users
            )

    def _stays(self, path: TargetPath, layer: Layer) -> bool:
        """Whether what lies at a path stays under a new layer; count what is hidden either way."""
        under = self.files[path].owner
        if under == layer.owner:
            return False
        chosen = self.winner(path)
        stays = chosen is not None and self._mods.get(under) == chosen
        loser = layer.owner if stays else under
        self.hidden[loser] = self.hidden.get(loser, 0) + 1
        return stays

    def _remove(self, pattern: str, owner: Owner) -> None:
        fits = _removal_test(pattern, self.rules)
        for path in [path for path in self.files if fits(path)]:
            del self.files[path]
        for path in self.maker.vanilla(pattern):
            self.files[path] = TargetFile(file=Removal(path=path), owner=owner)

    def _brought(self, path: TargetPath) -> Brought | None:
        target = self.files.get(path)
        return None if target is None or isinstance(target.file, Removal) else target.file

    def with_containers(self, owners: Sequence[Owner]) -> dict[PlacePath, TargetFile]:
        """Return the files, with members put into their containers: all that goes into one, by one rebuild.

        A container belongs to the last in load order who has a part in it.
        """
        files: dict[PlacePath, TargetFile] = {}
        members: dict[PlacePath, dict[MemberPath, TargetFile]] = {}
        for path, target in self.files.items():
            if isinstance(path, MemberPlace):
                members.setdefault(path.container, {})[path.member] = target
            else:
                files[path] = target
        ranks = {owner: rank for rank, owner in enumerate(owners)}
        for container, targets in sorted(members.items()):
            contents = {member: target.file for member, target in targets.items()}
            made = self.maker.rebuild(container, self._brought(container), contents)
            last = max((each.owner for each in targets.values()), key=lambda owner: ranks[owner])
            files[container] = TargetFile(file=made, owner=last)
        return files


def _removal_test(pattern: str, rules: PathRules) -> Callable[[TargetPath], bool]:
    """Return the test of what a pattern removes: members, or files with all that was put into them."""
    parts = container_pattern(pattern)
    if parts is None:
        fits = rules.test([pattern])
        return lambda path: fits(file_of(path))
    is_container = rules.test([parts[0]])
    is_member = rules.test([parts[1]])
    return lambda path: (
        isinstance(path, MemberPlace) and is_container(path.container) and is_member(path.member)
    )


def _refuse_files_as_folders(files: dict[PlacePath, TargetFile]) -> None:
    checked: set[str] = set()
    for path, target in files.items():
        above = path[: path.rfind("/")]
        if above in checked:
            continue
        for folder in parents(path):
            if folder in checked:
                break
            checked.add(folder)
            if folder in files and not isinstance(files[folder].file, Removal):
                raise LayerClash(
                    f"{shown(folder)} is a file of {files[folder].owner} "
                    f"and a folder of {target.owner}",
                    hint="One of them must go: drop a mod, or correct 'to' in its card.",
                )
