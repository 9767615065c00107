"""What is known of the folders that archives are laid into: what the game has there, what was decided."""

from __future__ import annotations

from rellum.core.catalog.model import GameSheet
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.layers.wrappers import Depth, KnownFolders
from rellum.core.pack.pack_file import PackFile
from rellum.core.pack.state import State
from rellum.core.values.path_rules import PathRules
from rellum.core.values.paths import (
    MemberPlace,
    PlacePath,
    TargetPath,
    UnsafePath,
    below,
    parse_target_path,
)


class BadNestedRule(UserError):
    """The pack says how a folder is laid that cannot be one."""

    code = "bad-nested-rule"


def known_folders(state: State, sheet: GameSheet, pack: PackFile) -> KnownFolders:
    """Return what is known of the folders that archives are laid into. Raises BadNestedRule."""
    depths = _depths(sheet, pack)
    places = frozenset(sheet.places.values())

    def holds(folder: TargetPath, name: str) -> bool:
        if isinstance(folder, MemberPlace):
            return False
        path = spelt(state, below(folder, name), sheet.path_rules)
        return path in places or path in state.baseline([path])

    return KnownFolders(holds=holds, depth_in=depths.get)


def _depths(sheet: GameSheet, pack: PackFile) -> dict[TargetPath, Depth]:
    found: dict[TargetPath, Depth] = {}
    for text, word, source in pack.nested:
        try:
            path = parse_target_path(text, sheet.places)
        except UnsafePath as error:
            raise BadNestedRule(f"{place_of(source)}: {error.summary}") from error
        found[path] = "once" if word == "once" else "twice"
    return found


def spelt(state: State, path: PlacePath, rules: PathRules) -> PlacePath:
    """Return a path as the game spells it, if the game has it."""
    if not rules.folds_case:
        return path
    folded = rules.key(path)
    return state.spellings([folded]).get(folded, PlacePath(folded))
