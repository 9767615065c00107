"""Which mods of the line-up bring the same files, and who wins."""

from __future__ import annotations

from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.known_folders import known_folders
from rellum.core.composing.layering import LineUpInputs, find_layers
from rellum.core.composing.line_up import current_line_up
from rellum.core.composing.winners import winners_of
from rellum.core.composing.workshop import Workshop
from rellum.core.layers.contested_paths import Conflicts, find_conflicts
from rellum.core.pack.outside import roots_of
from rellum.core.shelf.store import Shelf


def conflicts(request: Request) -> Conflicts:
    """Return the conflicts of the line-up as it would be laid now.

    Raises NoLineUp, NoLineUpExists, MissingArchives, PlacingFault, BadWinner.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        pack, catalog = opened.files.pack, opened.files.catalog
        lock, _ = current_line_up(opened, pack, catalog, opened.state.identity(), shelf)
        roots = roots_of(opened, catalog.sheet, pack)
        with Workshop(opened, shelf, roots, catalog.sheet.path_rules) as workshop:
            known = known_folders(opened.state, catalog.sheet, pack)
            line_up = LineUpInputs(
                lock=lock, pack=pack, catalog=catalog, workshop=workshop, known=known
            )
            layers = find_layers(line_up).layers
    return find_conflicts(layers, winners_of(pack, catalog))
