"""A download that is not finished: its bytes so far, and whose they are."""

from __future__ import annotations

import hashlib
import json
import os
from typing import Any, Final

from blake3 import blake3

from rellum.core.fetching.model import Wanted
from rellum.core.hashing import CHUNK_BYTES

_NOTES: Final = ".json"


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
        self._reset_hashes()
        self._file.seek(0)
        while piece := self._file.read(CHUNK_BYTES):
            self._count(piece)
        if not self.size:
            self.sources = []

    def close(self) -> None:
        """Keep what there is for the next time."""
        self._file.close()

    def begin_from(self, url: str, mark: str) -> None:
        """Note that the bytes to come are from ``url``, whose version of the file has this mark."""
        if self.sources[-1:] != [url]:
            self.sources.append(url)
        self.mark = mark
        with open(self.path + _NOTES, "w", encoding="utf-8") as file:
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
        self._reset_hashes()

    def fault(self) -> str:
        """Say why the bytes are not the file that is wanted, or return an empty string."""
        wanted = self._wanted
        if wanted.size is not None and self.size != wanted.size:
            return f"it has {self.size:,} bytes, not {wanted.size:,}"
        if wanted.blake3 and self._blake3.hexdigest() != wanted.blake3:
            return "its bytes are not those that the card means (BLAKE3)"
        if wanted.sha256 and self._sha256.hexdigest() != wanted.sha256:
            return "its bytes are not those that the card means (SHA-256)"
        return ""

    def hashes(self) -> tuple[str, dict[str, str]]:
        """Return the BLAKE3 hash of all bytes, and the others that were wanted, by name."""
        others = {"sha256": self._sha256.hexdigest()} if self._wanted.sha256 else {}
        return self._blake3.hexdigest(), others

    def _count(self, piece: bytes) -> None:
        self.size += len(piece)
        self._blake3.update(piece)
        if self._wanted.sha256:
            self._sha256.update(piece)

    def _reset_hashes(self) -> None:
        self._blake3, self._sha256 = blake3(), hashlib.sha256()

    def _read_notes(self) -> None:
        try:
            with open(self.path + _NOTES, encoding="utf-8") as file:
                notes = json.load(file)
            self.sources = [str(each) for each in notes["sources"]]
            self.mark = str(notes["mark"])
        except (OSError, ValueError, KeyError, TypeError):
            pass
