"""Where the folders of an open pack are not as its state records them: read, and not yet judged."""

from __future__ import annotations

from rellum.core.folder.ahead import begun
from rellum.core.folder.differences import Differences, Look, look_at
from rellum.core.pack.session import Session
from rellum.core.values.ids import ReleaseName
from rellum.core.values.owners import Owner
from rellum.core.values.paths import PlacePath, parents, root_of


def differences_of(opened: Session) -> Differences:
    """Return where the folders of a pack differ from its state, whatever that means. Raises OSError."""
    return look_of(opened).differences()


def look_of(opened: Session) -> Look:
    """Look at the folders of a pack. Raises OSError.

    Vanilla files that were known by their hash alone are learnt first, where one is seen.
    """
    if any(opened.state.baseline_by_hash()):
        from rellum.core.change.learning import learn_vanilla  # rare: not every command needs it

        learn_vanilla(opened)
    ahead = begun(opened.home.state_file)
    return look_at(opened.state, opened.roots, _folders_for_mods(opened), ahead)


def _folders_for_mods(opened: Session) -> list[PlacePath]:
    """Return the folders outside the game folder that are for mods alone.

    These are folders that Rellum made, or that are called after a mod which lays files in them; never in the
    places of settings and saves, nor a place itself: what else lies there is the user's own.
    """
    laid = opened.state.laid_outside()
    if not laid:
        return []
    found = {
        folder
        for path, row in laid.items()
        for folder in parents(path)
        if folder != root_of(folder) and _is_called(folder, row.owner)
    }
    found |= {each for each in opened.state.own_folders() if each != root_of(each)}
    places = opened.rules.places
    others = {str(places[name]) for name in ("settings", "saves") if name in places}
    return sorted(
        folder
        for folder in found
        if root_of(folder) in opened.roots.outside
        and root_of(folder) not in others
        and not found.intersection(parents(folder))
    )


def _is_called(folder: PlacePath, owner: Owner) -> bool:
    """Whether a folder is called after the mod that lays files in it."""
    name = folder.rpartition("/")[2]
    letters = "".join(sign for sign in name.casefold() if sign.isalnum())
    return isinstance(owner, ReleaseName) and letters == owner.mod.replace("-", "")
