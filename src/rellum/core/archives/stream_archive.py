"""Archives that must be read from beginning to end: each pass gives all members in order."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Sequence
from typing import Protocol

from rellum.core.archives.gate import Gate
from rellum.core.archives.inflate import PIECE_BYTES
from rellum.core.archives.links import with_links
from rellum.core.archives.model import Archive, ContentMismatch, Extraction, Member
from rellum.core.archives.sinks import FileSink, HashSink, Tally
from rellum.core.progress import Listener, silent
from rellum.core.values.paths import MemberPath


class Sink(Protocol):
    """Takes the bytes of one member."""

    def write(self, piece: bytes | memoryview) -> None:
        """Take the next bytes."""

    def close(self) -> None:
        """End the member."""


class Readable(Protocol):
    """Gives the bytes of one member."""

    def read(self, size: int, /) -> bytes | None:
        """Return up to so many of the next bytes; nothing at the end."""


SinkFor = Callable[[MemberPath, int, bool], "Sink | None"]
"""Return where a member's bytes go, by its path, size in bytes and whether it is executable; None:
nowhere."""


def pour(content: Readable, sink: Sink) -> None:
    """Hand all bytes of a member to its sink, and end it there."""
    while piece := content.read(PIECE_BYTES):
        sink.write(piece)
    sink.close()


class StreamArchive(Archive):
    """An archive whose reader hands each member's bytes to a sink, in the archive's own order."""

    @abstractmethod
    def walk(self, gate: Gate, sink_for: SinkFor) -> None:
        """Read the archive through. Raises ArchiveFault for what is damaged or hostile."""

    def check(self, listen: Listener = silent) -> tuple[Member, ...]:
        """Read every member in full. Raises ArchiveFault, naming the member."""
        gate = Gate(self.name, self.packed_bytes, self.limits)
        tally = Tally("checking", 0, 0, listen)
        members: list[Member] = []

        def sink_for(path: MemberPath, size: int, executable: bool) -> Sink:
            return _Checked(self, path, size, executable, gate, members.append, tally)

        self.walk(gate, sink_for)
        return with_links(members, gate)

    def extract(self, jobs: Sequence[Extraction], listen: Listener = silent) -> None:
        """Write members to new files in one pass. Raises ContentMismatch, ArchiveFault, OSError."""
        wanted: dict[MemberPath, list[Extraction]] = {}
        for job in jobs:
            wanted.setdefault(job.member, []).append(job)
        tally = Tally("unpacking", len(jobs), 0, listen)
        gate = Gate(self.name, self.packed_bytes, self.limits)

        def sink_for(path: MemberPath, size: int, executable: bool) -> Sink | None:
            its_jobs = wanted.pop(path, None)
            return _Written(its_jobs, self.name, tally) if its_jobs else None

        self.walk(gate, sink_for)
        if wanted:
            raise ContentMismatch(f"{self.name} has no member {next(iter(wanted))} any more")


class _Checked(HashSink):
    """Hashes a member, counts it against the limits and notes it at its end."""

    def __init__(
        self,
        archive: StreamArchive,
        path: MemberPath,
        size: int,
        executable: bool,
        gate: Gate,
        note: Callable[[Member], None],
        tally: Tally,
    ) -> None:
        super().__init__(gate.spend)
        self._archive, self._path, self._declared = archive, path, size
        self._executable, self._note, self._tally = executable, note, tally

    def close(self) -> None:
        if self.size != self._declared:
            raise self._archive.fault(
                f"the member {self._path} is truncated: {self.size:,} of {self._declared:,} bytes"
            )
        self._note(
            Member(
                path=self._path,
                size=self.size,
                digest=self.digest,
                executable=self._executable,
            )
        )
        self._tally.add(self.size)


class _Written:
    """Writes one member to all the files that want it."""

    def __init__(self, jobs: Sequence[Extraction], archive: str, tally: Tally) -> None:
        self._sinks = [FileSink(job, archive) for job in jobs]
        self._tally = tally

    def write(self, piece: bytes | memoryview) -> None:
        for sink in self._sinks:
            sink.write(piece)

    def close(self) -> None:
        for sink in self._sinks:
            sink.close()
            self._tally.add(sink.size)
