"""A download that is not finished: its bytes so far, and whose they are."""

from __future__ import annotations

import hashlib
import json
import os
import queue
import threading
from typing import Any, Final

from blake3 import blake3

from rellum.core.fetching.model import Wanted
from rellum.core.hashing import CHUNK_BYTES

NOTES: Final = ".json"
"""The ending of the notes beside a download."""
_PIECES_AHEAD: Final = 16
"""Pieces that may wait to be hashed: that bounds the memory."""


def forget_partial(path: str) -> None:
    """Delete what is left of a download that has ended: its bytes, if they are still there, and notes."""
    for each in (path, path + NOTES):
        if os.path.exists(each):
            os.unlink(each)


class _Hashing:
    """Hashes pieces in a thread of its own, so that the next ones arrive meanwhile.

    SHA-256 without help from the processor is slower than a good line.
    """

    def __init__(self, with_sha256: bool) -> None:
        self._blake3 = blake3()
        self._sha256 = hashlib.sha256() if with_sha256 else None
        self._pieces: queue.Queue[bytes | None] = queue.Queue(_PIECES_AHEAD)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def add(self, piece: bytes) -> None:
        """Hash a piece, sooner or later."""
        self._pieces.put(piece)

    def end(self) -> None:
        """Hash what is left, and stop."""
        if self._thread.is_alive():
            self._pieces.put(None)
            self._thread.join()

    def digests(self) -> tuple[str, str | None]:
        """Return the hashes of all pieces so far: BLAKE3, and SHA-256 where it is wanted."""
        self._pieces.join()
        return self._blake3.hexdigest(), self._sha256.hexdigest() if self._sha256 else None

    def _run(self) -> None:
        while True:
            piece = self._pieces.get()
            if piece is not None:
                self._blake3.update(piece)
                if self._sha256:
                    self._sha256.update(piece)
            self._pieces.task_done()
            if piece is None:
                return


class Partial:
    """The bytes of a file that have come, hashed as they come.

    They stay on disk whatever happens to this process; the next one goes on from there. Beside them
    stands which addresses they came from, and by what mark the last one knows its version of them.
    """

    def __init__(self, folder: str, wanted: Wanted) -> None:
        """Open what there is, or begin. Raises OSError."""
        self._wanted = wanted
        self.path = os.path.join(folder, wanted.key)
        self.sources: list[str] = []
        self.mark = ""
        self._read_notes()
        self._file: Any = open(self.path, "ab+", buffering=0)  # noqa: SIM115 - see close
        self.size = 0
        self._hashing = _Hashing(wanted.sha256 is not None)
        self._file.seek(0)
        while piece := self._file.read(CHUNK_BYTES):
            self._count(piece)
        if not self.size:
            self.sources = []

    def close(self) -> None:
        """Keep what there is for the next time."""
        self._hashing.end()
        self._file.close()

    def begin_from(self, url: str, mark: str) -> None:
        """Note that the bytes to come are from ``url``, whose version of the file has this mark."""
        if self.sources[-1:] != [url]:
            self.sources.append(url)
        self.mark = mark
        with open(self.path + NOTES, "w", encoding="utf-8") as file:
            json.dump({"name": self._wanted.name, "sources": self.sources, "mark": mark}, file)

    def add(self, piece: bytes) -> None:
        """Append bytes. Raises OSError."""
        view = memoryview(piece)
        while view:
            view = view[self._file.write(view) :]
        self._count(piece)

    def start_over(self) -> None:
        """Throw away all bytes."""
        self._file.truncate(0)
        self._file.seek(0)
        self.size = 0
        self.sources = []
        self.mark = ""
        self._hashing.end()
        self._hashing = _Hashing(self._wanted.sha256 is not None)

    def fault(self) -> str:
        """Say why the bytes are not the file that is wanted, or return an empty string."""
        wanted = self._wanted
        if wanted.size is not None and self.size != wanted.size:
            return f"it has {self.size:,} bytes, not {wanted.size:,}"
        blake3_digest, sha256_digest = self._hashing.digests()
        if wanted.blake3 and blake3_digest != wanted.blake3:
            return "its content is not what the card says (BLAKE3)"
        if wanted.sha256 and sha256_digest != wanted.sha256:
            return "its content is not what the card says (SHA-256)"
        return ""

    def hashes(self) -> tuple[str, dict[str, str]]:
        """Return the BLAKE3 hash of all bytes, and the others that were wanted, by name."""
        blake3_digest, sha256_digest = self._hashing.digests()
        return blake3_digest, {"sha256": sha256_digest} if sha256_digest else {}

    def _count(self, piece: bytes) -> None:
        self.size += len(piece)
        self._hashing.add(piece)

    def _read_notes(self) -> None:
        try:
            with open(self.path + NOTES, encoding="utf-8") as file:
                notes = json.load(file)
            self.sources = [str(each) for each in notes["sources"]]
            self.mark = str(notes["mark"])
        except (OSError, ValueError, KeyError, TypeError):
            pass
