"""The files of a pack that people write: each is read once, when it is asked for first."""

from __future__ import annotations

import os
from functools import cached_property
from typing import TYPE_CHECKING

from rellum.core.pack.home import PackHome

# A check reads none of them where nothing changed: their readers are imported where one is read.
if TYPE_CHECKING:
    from rellum.core.catalog.model import Catalog, GameSheet
    from rellum.core.pack.lock_file import LockFile
    from rellum.core.pack.pack_file import PackFile


class PackFiles:
    """rellum.toml, rellum.lock, and the catalog that they draw on, as they were when first asked for."""

    def __init__(self, home: PackHome) -> None:
        self.home = home

    @cached_property
    def pack(self) -> PackFile:
        """What rellum.toml says. Raises NoPack, FileFaults."""
        from rellum.core.pack.pack_file import read_pack_file

        return read_pack_file(self.home)

    @cached_property
    def sheet(self) -> GameSheet:
        """The game sheet; no card is read for it. Raises NoCatalog, FileFaults."""
        from rellum.core.pack.catalogs import sheet_of

        if "catalog" in self.__dict__:
            return self.catalog.sheet
        return sheet_of(self.home, self.pack)

    @cached_property
    def catalog_read(self) -> tuple[Catalog | None, tuple[str, ...]]:
        """The catalog as far as it can be read, and the mistakes in it. Raises NoCatalog."""
        from rellum.core.pack.catalogs import read_catalog_of

        return read_catalog_of(self.home, self.pack)

    @cached_property
    def catalog(self) -> Catalog:
        """The catalog for the pack's game. Raises NoCatalog, FileFaults."""
        from rellum.core.catalog.load import usable_catalog

        return usable_catalog(*self.catalog_read)

    @cached_property
    def lock(self) -> LockFile:
        """The line-up. Raises NoLineUp, FileFaults."""
        from rellum.core.pack.lock_file import read_lock

        return read_lock(self.home)

    @cached_property
    def lock_if_any(self) -> LockFile | None:
        """The line-up; None where none was made yet. Raises FileFaults."""
        return self.lock if os.path.exists(self.home.lock_file) else None
