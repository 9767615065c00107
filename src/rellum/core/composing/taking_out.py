"""Taking a mod's edit out of a file that the user, or the game, goes on writing.

What the edit changed is put back key by key (by line where the form is not known); all else stays as it is
now. It is the three-way merge the other way round: the base is what the mod wanted, and what was there before
the mod comes in.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.home import PackHome
from rellum.core.values.content import Laid
from rellum.core.values.paths import PlacePath, Roots, shown

if TYPE_CHECKING:
    from rellum.core.patching.merge import Conflict, Merged, Side
    from rellum.core.patching.model import SettingsForm

MOST_BYTES = 16 << 20
"""Larger files are not settings, and are not merged."""


class Without(NamedTuple):
    """A laid file without what its mod did in it.

    ``conflicts`` are keys that the mod had set and that were changed since; ``is_vanilla``: the file is the
    game's own.
    """

    laid: Laid
    content: bytes
    conflicts: tuple[Conflict, ...]
    is_vanilla: bool


def without_edits(
    rows: Iterable[Laid],
    home: PackHome,
    roots: Roots,
    is_vanilla: Callable[[PlacePath], bool],
    side_of: Callable[[PlacePath], Side],
    form_of: Callable[[PlacePath], SettingsForm | None],
) -> Iterator[Without]:
    """Yield what stays of merged files whose mods go; none where nothing but the mod changed them.

    ``side_of`` says what becomes of a key that the mod had set and that was changed since: ``mine`` keeps
    it; ``form_of`` in which form a file is. Raises OSError.
    """
    for row in rows:
        native = is_vanilla(row.path)
        side: Side = "theirs" if native else side_of(row.path)
        merged = _merged(row, home, roots, side, form_of(row.path))
        if merged is not None:
            yield Without(row, merged.content, merged.conflicts, native)


def _merged(
    row: Laid, home: PackHome, roots: Roots, side: Side, form: SettingsForm | None
) -> Merged | None:
    if row.role != "merge" or row.base is None or row.under is None:
        return None
    file = roots.absolute(row.path)
    if not os.path.isfile(file) or os.path.islink(file) or os.path.getsize(file) > MOST_BYTES:
        return None
    base, under = (_kept(home, digest) for digest in (row.base, row.under.digest))
    if base is None or under is None or hash_file(file) == row.base:
        return None
    from rellum.core.patching.merge import merge_settings
    from rellum.core.patching.model import PatchFault

    with open(file, "rb") as stream:
        now = stream.read()
    try:
        return merge_settings(base, now, under, form, side, shown(row.path))
    except PatchFault:
        return None


def _kept(home: PackHome, digest: Digest) -> bytes | None:
    """Return a content of the store of originals; None where it is not there, whole and small enough."""
    file = os.path.join(home.originals_folder, digest)
    if not os.path.isfile(file) or os.path.getsize(file) > MOST_BYTES or hash_file(file) != digest:
        return None
    with open(file, "rb") as stream:
        return stream.read()


def contents(found: Iterable[Without]) -> TakenOut:
    """Return what is to stand at each path, and whether the file as it is now is kept for its mod."""
    return {each.laid.path: (each.content, bool(each.conflicts)) for each in found}


TakenOut = Mapping[PlacePath, tuple[bytes, bool]]
"""Files that a mod edited, without what it did, by path; and whether they are kept as they are, too."""
