"""Letting go of what lies in the store of originals and nothing in the state needs, after an interruption.

A content leaves only if it was seen to lie elsewhere: where the state or the journal says that it stands, or
under another name on the disk. What cannot be told is moved aside, never deleted.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator

from rellum.core.change.journal import Journal, Step
from rellum.core.change.keeping import settings_paths
from rellum.core.hashing import Digest, hash_file
from rellum.core.notices import note
from rellum.core.pack.home import PackHome
from rellum.core.pack.site import Site
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, Roots, is_in_game, root_of


def let_go_of_strays(site: Site, journal: Journal) -> None:
    """Remove contents that nothing needs and that exist elsewhere; move others aside, and say so.

    The steps of ``journal`` say what stood where before the interrupted change. Raises OSError.
    """
    store = site.home.originals_folder
    names = os.listdir(store) if os.path.isdir(store) else []
    needed = site.state.needed_counts()
    # What ends in '.new' was being put in; it got its own name before anything was replaced.
    strays = {Digest(name) for name in names if name not in needed and "." not in name}
    strays = {each for each in strays if os.lstat(os.path.join(store, each)).st_nlink == 1}
    nowhere = strays_that_are_nowhere_else(site, journal, strays)
    aside = [os.path.join(store, name) for name in nowhere]
    if aside:
        folder = rescue_folder(site.home)
        os.makedirs(folder, exist_ok=True)
        for file in aside:
            site.disk.move_over(file, os.path.join(folder, os.path.basename(file)))
        files = "1 kept file" if len(aside) == 1 else f"{len(aside)} kept files"
        note(f"{files} of which it is not known where they belong: moved to {folder}")
    site.originals.let_go_of_all_but(site.state.needed_counts())


def strays_that_are_nowhere_else(
    site: Site, journal: Journal, digests: set[Digest]
) -> list[Digest]:
    """Return those of some contents that stand neither where they should nor among the player's files.

    What the interrupted change brought from elsewhere is there still. Raises OSError.
    """
    strays = digests - set(journal.brings)
    if not strays:
        return []
    stands = _where_they_stand(site, strays, journal.steps)
    strays = {each for each in strays if not _is_whole(stands.get(each), site.roots)}
    return sorted(strays - set(_standing_settings(site))) if strays else []


def _standing_settings(site: Site) -> Iterator[Digest]:
    """Yield the contents of the player's files that were copied for a checkpoint."""
    for path in settings_paths(site.state, site.roots, site.players_places):
        file = site.roots.absolute(path)
        if os.path.isfile(file) and not os.path.islink(file):
            yield hash_file(file)


def rescue_folder(home: PackHome) -> str:
    """Return a folder for contents that belong to no known path."""
    return os.path.join(home.state_folder, f"rescued-{time.strftime('%Y%m%d-%H%M%S')}")


Standing = list[tuple[PlacePath, Content]]


def _where_they_stand(
    site: Site, digests: set[Digest], steps: Iterable[Step]
) -> dict[Digest, Standing]:
    """Return at which paths each content should stand now, by the state and by what the steps were before."""
    laid = site.state.laid()
    expected: dict[PlacePath, Content | None] = {
        each.path: each.content for each in site.state.baseline_files() if each.path not in laid
    }
    expected |= {path: row.content for path, row in laid.items()}
    expected |= {step.path: step.before for step in steps}
    found: dict[Digest, Standing] = {}
    for path, content in expected.items():
        if content and content.digest in digests:
            found.setdefault(content.digest, []).append((path, content))
    return found


def _is_whole(standing: Standing | None, roots: Roots) -> bool:
    """Whether a content stands at every path where it should, by size and time."""
    return bool(standing) and all(_stands(path, content, roots) for path, content in standing or ())


def _stands(path: PlacePath, content: Content, roots: Roots) -> bool:
    if not is_in_game(path) and root_of(path) not in roots.outside:
        return False
    try:
        status = os.lstat(roots.absolute(path))
    except OSError:
        return False
    return (status.st_size, status.st_mtime_ns) == (content.size, content.mtime_ns)
