"""Take archives in: check them, know which release each is, put them on the shelf."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from rellum.core.actions.catalogs import catalog_of
from rellum.core.catalog.model import Catalog
from rellum.core.errors import RellumError
from rellum.core.hashing import Digest
from rellum.core.pack.home import pack_home
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.progress import Listener, silent
from rellum.core.shelf.recognise import Recognised, mismatch, recognise, wants_sha256
from rellum.core.shelf.store import Shelf


@dataclass(frozen=True, slots=True, kw_only=True)
class Taken:
    """What became of one archive. ``reason`` and ``hint`` tell why one was refused."""

    path: str
    outcome: Literal["taken", "already there", "unknown", "refused"]
    release: Recognised | None
    size: int
    digest: Digest | None
    reason: str
    hint: str


def take(
    pack_folder: str, paths: Iterable[str], shelf_folder: str, listen: Listener = silent
) -> tuple[Taken, ...]:
    """Take each archive by itself: a bad one does not stop the others. Raises NoPack, FileFaults."""
    home = pack_home(pack_folder)
    catalog = catalog_of(home, read_pack_file(home))
    with Shelf(shelf_folder) as shelf:
        return tuple(_take_one(path, catalog, shelf, listen) for path in paths)


def _take_one(path: str, catalog: Catalog, shelf: Shelf, listen: Listener) -> Taken:
    if not os.path.isfile(path):
        what = "is a folder; give the archive itself" if os.path.isdir(path) else "is not there"
        return _refused(path, f"{path}: {what}", "")
    name, size = os.path.basename(path), os.path.getsize(path)
    with_sha256 = wants_sha256(catalog, name, size)
    try:
        entry, is_new = shelf.take(path, with_sha256=with_sha256, listen=listen)
    except RellumError as error:
        wrong = mismatch(catalog, name, size)
        return _refused(path, "; ".join(filter(None, (error.summary, wrong))), error.hint)
    release = recognise(catalog, entry)
    if release is None and (wrong := mismatch(catalog, name, size)):
        if is_new:
            shelf.forget(entry.digest)
        return _refused(path, f"{path}: {wrong}", "Get the archive again, or correct the card.")
    return Taken(
        path=path,
        outcome="already there" if not is_new else "taken" if release else "unknown",
        release=release,
        size=size,
        digest=entry.digest,
        reason="" if release else "no card knows this archive; it is kept",
        hint="",
    )


def _refused(path: str, reason: str, hint: str) -> Taken:
    return Taken(
        path=path, outcome="refused", release=None, size=0, digest=None, reason=reason, hint=hint
    )
