"""Files of mods made again as a checkpoint's own line-up makes them: edited files, containers, texts."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from contextlib import suppress

from rellum.core.change.preparing import Preparing
from rellum.core.errors import RellumError
from rellum.core.layers.model import Removal
from rellum.core.pack.checkpoints import PastState
from rellum.core.pack.rows import laid_of_row
from rellum.core.pack.session import Session
from rellum.core.pack.state import new_id
from rellum.core.pack.state_change import StateChange
from rellum.core.shelf.store import Shelf
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath


def remake(
    opened: Session, then: PastState, shelf_folder: str, wanted: Mapping[PlacePath, Content]
) -> None:
    """Put contents into the store of originals that the line-up of a checkpoint makes, as far as it can.

    The rellum.toml and rellum.lock of then are read, and the layers composed over the baseline of then: by
    what is in the store already, and what stands in the folder. What cannot be made is left to be named by
    whoever misses it. Raises OSError.
    """
    store = opened.site.originals
    missing = {path: each for path, each in wanted.items() if not store.is_whole(each.digest)}
    if not missing or not os.path.isdir(shelf_folder):
        return
    folder = os.path.join(opened.home.state_folder, "then")
    shutil.rmtree(folder, ignore_errors=True)
    os.makedirs(folder)
    try:
        for name, text in then.pack_texts:
            with open(os.path.join(folder, name), "wb") as file:
                file.write(text.encode("utf-8", "surrogateescape"))
        with suppress(RellumError):  # a card that is gone or faulty, an archive that is not here
            _make(opened, then, folder, shelf_folder, missing)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _make(
    opened: Session,
    then: PastState,
    folder: str,
    shelf_folder: str,
    missing: Mapping[PlacePath, Content],
) -> None:
    state = opened.state.rehearsal(_as_then(then))
    home = opened.home._replace(texts_folder=folder)
    of_then = opened.with_files_of(home)._replace(state=state)
    site = opened.site
    site.disk.make_folder(site.home.originals_folder)
    try:
        with (
            Shelf(shelf_folder) as shelf,
            Preparing(of_then, shelf, sweeps=False, as_noted=True) as preparing,
        ):
            files = preparing.compose().target.files
            for path, content in missing.items():
                target = files.get(path)
                for brought in (target.file, target.base) if target else ():
                    if brought is None or isinstance(brought, Removal):
                        continue
                    if brought.digest == content.digest:
                        site.originals.put_copy(preparing.workshop.file(brought), content.digest)
    finally:
        state.close()


def _as_then(then: PastState) -> StateChange:
    """Return what makes a state what it was at a checkpoint, as far as layers depend on it."""
    return StateChange(
        id=new_id(),
        action="rewind",
        laid=tuple(laid_of_row(row) for row in then.laid.values() if row),
        no_longer_laid=tuple(path for path, row in then.laid.items() if not row),
        kept=(),
        new_folders=(),
        gone_folders=(),
        baseline=tuple(then.vanilla.items()),
        identity=then.identity if then.vanilla else "",
    )
