"""A long ``rellum.lock`` as it was read last: to decode it takes a tenth of the time of reading its text."""

from __future__ import annotations

from typing import Final

from rellum import __version__
from rellum.core.pack.home import PackHome
from rellum.core.pack.locked_release import LockFile
from rellum.core.pack.remembered import Mark, mark_of, recall_bytes, remember_bytes

_QUESTION: Final = "line-up"
_FORMAT: Final = 2


def recall_lock(home: PackHome) -> LockFile | None:
    """Return the line-up that was remembered, if ``rellum.lock`` has not changed since."""
    found = recall_bytes(home, _QUESTION, mark_of_lock(home))
    if found is None:
        return None
    from msgspec import DecodeError
    from msgspec.msgpack import decode

    try:
        return decode(found, type=LockFile)
    except DecodeError:
        return None


def remember_lock(home: PackHome, mark: Mark, lock: LockFile) -> None:
    """Remember a line-up that was read without mistakes. ``mark``: as the file was before that."""
    from msgspec.msgpack import encode

    remember_bytes(home, _QUESTION, mark, encode(lock))


def mark_of_lock(home: PackHome) -> Mark:
    """Return what tells whether ``rellum.lock`` has changed."""
    return mark_of([home.lock_file], __version__, _FORMAT, home.lock_file)
