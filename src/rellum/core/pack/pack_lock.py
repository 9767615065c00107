"""One Rellum at a time on a pack."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from rellum.core.errors import UserError
from rellum.core.pack.home import PackHome
from rellum.core.process_lock import hold


class PackBusy(UserError):
    """Another process works on this pack."""

    code = "pack-busy"


@contextmanager
def hold_pack(home: PackHome) -> Iterator[None]:
    """Hold the pack until the block ends. Raises PackBusy with the holder's process number."""
    with hold(home.process_lock_file, f"the pack {home.folder}", PackBusy):
        yield
