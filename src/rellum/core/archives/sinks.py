"""Where the bytes of members go: only into a hash, or into a new file as well."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable

from blake3 import blake3

from rellum.core.archives.model import ContentMismatch, Extraction
from rellum.core.hashing import Digest
from rellum.core.progress import Listener, Progress


class HashSink:
    """Takes a member's bytes and knows their number and hash."""

    def __init__(self, spend: Callable[[int], None]) -> None:
        self._hasher = blake3()
        self._spend = spend
        self.size = 0

    def write(self, piece: bytes | memoryview) -> None:
        """Take the next bytes. Raises ArchiveFault where they are too many."""
        self.size += len(piece)
        self._spend(len(piece))
        self._hasher.update(piece)

    @property
    def digest(self) -> Digest:
        """The BLAKE3 hash of all bytes so far."""
        return Digest(self._hasher.hexdigest())

    def close(self) -> None:
        """End the member."""


class FileSink(HashSink):
    """Writes a member to the new file that a job names, and proves its hash at the end."""

    def __init__(self, job: Extraction, archive: str) -> None:
        super().__init__(_free)
        self._job = job
        self._archive = archive
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
        self._fd = os.open(job.target, flags, job.mode)

    def write(self, piece: bytes | memoryview) -> None:
        """Hash and write the next bytes. Raises OSError."""
        super().write(piece)
        view = memoryview(piece)
        while view:
            view = view[os.write(self._fd, view) :]

    def abandon(self) -> None:
        """Close the file without looking at what is in it."""
        os.close(self._fd)

    def close(self) -> None:
        """Close the file. Raises ContentMismatch."""
        os.close(self._fd)
        if self.digest != self._job.digest:
            raise ContentMismatch(
                f"{self._archive}: the member {self._job.member} is not what was checked when it "
                "was taken",
                hint="The archive on the shelf has changed. Take it again from a good copy.",
            )


def _free(_: int) -> None:
    """Members that are unpacked were counted when they were checked."""


class Tally:
    """Counts finished members, of one thread or two, and reports each."""

    def __init__(self, stage: str, files: int, total_bytes: int, listen: Listener) -> None:
        self._stage, self._total_files, self._total_bytes = stage, files, total_bytes
        self._files = self._bytes = 0
        self._listen = listen
        self._lock = threading.Lock()

    def add(self, count: int) -> None:
        """Count one member of so many bytes."""
        with self._lock:
            self._files += 1
            self._bytes += count
            self._listen(
                Progress(
                    stage=self._stage,
                    files=self._files,
                    total_files=self._total_files,
                    bytes=self._bytes,
                    total_bytes=self._total_bytes,
                )
            )
