"""Writing a file and hashing what is written, at the same time."""

from __future__ import annotations

import queue
import threading
from typing import BinaryIO

from blake3 import blake3

from rellum.core.hashing import Digest

_WAITING = 8
"""So many pieces may wait to be hashed; pieces of 1 MiB keep both threads busy."""


class HashingWriter:
    """Writes to a file in this thread and hashes in another, as both leave the interpreter free."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._hasher = blake3()
        self._pieces: queue.Queue[bytes] = queue.Queue(_WAITING)
        self._thread = threading.Thread(target=self._hash, daemon=True)
        self._thread.start()

    def write(self, piece: bytes) -> None:
        """Write a piece. Raises OSError."""
        if piece:
            self._pieces.put(piece)
            self._file.write(piece)

    def digest(self) -> Digest:
        """Return the hash of all that was written; nothing more can be."""
        self.close()
        return Digest(self._hasher.hexdigest())

    def close(self) -> None:
        """End the hashing."""
        if self._thread.is_alive():
            self._pieces.put(b"")
            self._thread.join()

    def _hash(self) -> None:
        while piece := self._pieces.get():
            self._hasher.update(piece)
