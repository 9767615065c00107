"""Questions that a plan leaves open, about settings and folders; the pack remembers the answers."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from rellum.core.catalog.model import GameSheet
from rellum.core.composing.known_folders import known_folders
from rellum.core.composing.settling import SettingsConflict, refuse_unsettled, side_rules
from rellum.core.errors import UserError
from rellum.core.layers.wrappers import Depth, KnownFolders, SameName
from rellum.core.pack.pack_file import PackFile
from rellum.core.pack.state import State
from rellum.core.patching.merge import Side
from rellum.core.values.paths import PlacePath, TargetPath, shown
from rellum.core.words import quoted


class UnsettledFolder(UserError):
    """A folder would come into one of the same name, and nobody says whether that is meant."""

    code = "unsettled-folder"


@dataclass(frozen=True, slots=True, kw_only=True)
class Asking:
    """Those who are asked; each gives None where nobody is there to say it."""

    settings: Callable[[SettingsConflict], Side | None]
    same_name: Callable[[SameName], Depth | None]


@dataclass(frozen=True, slots=True)
class Answers:
    """What was said while a change was prepared; it counts before what rellum.toml says."""

    sides: dict[PlacePath, Side] = field(default_factory=dict)
    depths: dict[TargetPath, Depth] = field(default_factory=dict)

    def side_of(self, pack: PackFile, sheet: GameSheet) -> Callable[[PlacePath], Side | None]:
        """Return who wins where settings are in conflict. Raises BadSettingsRule."""
        rules = side_rules(pack, sheet)
        return lambda path: self.sides.get(path) or rules(path)

    def known_folders(self, state: State, pack: PackFile, sheet: GameSheet) -> KnownFolders:
        """Return what is known of the folders that archives are laid into. Raises BadNestedRule."""
        known = known_folders(state, sheet, pack)
        return replace(known, depth_in=lambda path: self.depths.get(path) or known.depth_in(path))

    def ask(
        self,
        same_names: Sequence[SameName],
        conflicts: Sequence[SettingsConflict],
        asking: Asking,
    ) -> bool:
        """Ask what is open, folders first, as the rest depends on them; return whether anything was said."""
        depths = {
            each.to: depth
            for each in same_names
            if each.depth is None and (depth := asking.same_name(each))
        }
        self.depths.update(depths)
        if depths:
            return True
        sides = {
            each.path: side
            for each in conflicts
            if each.side is None and (side := asking.settings(each))
        }
        self.sides.update(sides)
        return bool(sides)

    def by_table(self) -> dict[str, Mapping[str, str]]:
        """Return the answers as rellum.toml has them: by table, then by path."""
        tables: dict[str, Mapping[str, str]] = {
            "settings": {str(path): side for path, side in self.sides.items()},
            "nested": {str(path): depth for path, depth in self.depths.items()},
        }
        return {name: words for name, words in tables.items() if words}


def refuse_open(same_names: Sequence[SameName], conflicts: Sequence[SettingsConflict]) -> None:
    """Raise UnsettledFolder or UnsettledSettings where something is still open."""
    open_ones = [each for each in same_names if each.depth is None]
    if open_ones:
        first = open_ones[0]
        raise UnsettledFolder(
            "a folder would go into one of the same name, and the pack does not say whether that is intended",
            details=tuple(
                f"{each.archive}: {each.folder} would become {shown(each.to)}/{each.folder}"
                for each in open_ones
            ),
            hint=f"Only its contents: rellum decide nested {quoted(shown(first.to))} once\n"
            f"As it is:         rellum decide nested {quoted(shown(first.to))} twice",
        )
    refuse_unsettled(conflicts)
