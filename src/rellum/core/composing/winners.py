"""Who wins the paths that several mods bring, as the pack decides."""

from __future__ import annotations

from collections.abc import Callable

from rellum.core.catalog.model import Catalog
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.pack.pack_file import PackFile
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath, TargetPath, UnsafePath, choice_for, parse_place_path


class BadWinner(UserError):
    """The pack lets a mod win a path in a way that cannot be."""

    code = "bad-winner"


def winners_of(pack: PackFile, catalog: Catalog) -> Callable[[TargetPath], ModId | None]:
    """Return the pack's choices of who wins a path, or all paths of a folder. Raises BadWinner."""
    chosen: dict[PlacePath, ModId] = {}
    for text, mod, source in pack.winners:
        try:
            path = parse_place_path(text, catalog.sheet.places)
        except UnsafePath as error:
            raise BadWinner(f"{place_of(source)}: {error.summary}") from error
        if mod not in catalog.mods:
            raise BadWinner(
                f"{place_of(source)}: no card is for {mod!r}{nearest(mod, catalog.mods)}"
            )
        chosen[path] = mod
    return lambda path: choice_for(path, chosen)
