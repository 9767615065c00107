"""Which mods of the line-up bring the same files, and who wins."""

from __future__ import annotations

from collections.abc import Callable

from rellum.core.actions.match.resolve import current_line_up
from rellum.core.catalog.model import Catalog
from rellum.core.catalog.toml_lines import place_of
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.known_folders import known_folders
from rellum.core.composing.layering import LineUpInputs, find_layers
from rellum.core.composing.workshop import Workshop
from rellum.core.errors import UserError
from rellum.core.layers.contested_paths import Conflicts, find_conflicts
from rellum.core.nearest import nearest
from rellum.core.pack.catalogs import catalog_of
from rellum.core.pack.outside import roots_of
from rellum.core.pack.pack_file import PackFile, read_pack_file
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath, TargetPath, UnsafePath, choice_for, parse_place_path


class BadWinner(UserError):
    """The pack lets a mod win a path in a way that cannot be."""

    code = "bad-winner"


def conflicts(request: Request) -> Conflicts:
    """Return the conflicts of the line-up as it would be laid now.

    Raises NoLineUp, NoLineUpExists, MissingArchives, PlacingFault, BadWinner.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        pack = read_pack_file(opened.home)
        catalog = catalog_of(opened.home, pack)
        lock, _ = current_line_up(opened, pack, catalog, opened.state.identity(), shelf)
        roots = roots_of(opened, catalog.sheet, pack)
        with Workshop(opened, shelf, roots, catalog.sheet.path_rules) as workshop:
            known = known_folders(opened.state, catalog.sheet, pack)
            line_up = LineUpInputs(
                lock=lock, pack=pack, catalog=catalog, workshop=workshop, known=known
            )
            layers = find_layers(line_up).layers
    return find_conflicts(layers, winners_of(pack, catalog))


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
