"""Rar, through an extractor of the system: its format is not open, and no package reads it alone.

``bsdtar`` turns a rar into a tar on its standard output, so that no byte reaches the disk unchecked.
``unar`` and ``unrar`` can only unpack into a folder: an empty one beside the rar, looked at afterwards
and taken away.
"""

from __future__ import annotations

import os
import shutil
import stat
import tarfile
import tempfile
from collections.abc import Iterator, Sequence
from typing import IO, Final, cast

from rellum.core.archives.gate import Gate
from rellum.core.archives.inflate import PIECE_BYTES
from rellum.core.archives.model import ArchiveFault, Form, Limits
from rellum.core.archives.stream_archive import SinkFor, StreamArchive, pour
from rellum.core.archives.tar_archive import TarArchive

EXTRACTORS: Final = ("bsdtar", "unar", "unrar")


class NoExtractor(ArchiveFault):
    """A rar cannot be read, because no program for it is installed."""

    code = "no-extractor"


class RarArchive(StreamArchive):
    """A rar of one file."""

    def __init__(
        self, parts: Sequence[str], name: str, limits: Limits, form: Form, encoding: str = ""
    ) -> None:
        """Find an extractor. Raises NoExtractor."""
        super().__init__(parts, name, limits, form, encoding)
        found = next((path for each in EXTRACTORS if (path := shutil.which(each))), None)
        if found is None:
            raise NoExtractor(
                f"{name}: Rellum reads rar archives with a system program, and none is installed",
                hint=f"Install one of {', '.join(EXTRACTORS)}, or get the archive as a zip or 7z.",
            )
        self._program = found

    def walk(self, gate: Gate, sink_for: SinkFor) -> None:
        """Let the extractor unpack, and look at all that it gives."""
        self.ready(self.packed_bytes)
        if os.path.basename(self._program).startswith("bsdtar"):
            self._walk_as_tar(gate, sink_for)
        else:
            self._walk_folder(gate, sink_for)

    def _walk_as_tar(self, gate: Gate, sink_for: SinkFor) -> None:
        import subprocess

        command = [self._program, "-c", "-f", "-", "--format", "pax", f"@{self.parts[0]}"]
        with tempfile.TemporaryFile() as told:
            process = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=told
            )
            stream = cast(IO[bytes], process.stdout)
            reader = TarArchive(self.parts, self.name, self.limits, Form("tar"))
            broken: Exception | None = None
            try:
                reader.walk_stream(stream, gate, sink_for)
                while stream.read(PIECE_BYTES):
                    pass
            except (tarfile.TarError, EOFError, ValueError) as error:
                broken = error
            finally:
                stream.close()
                status = _ended(process)
            told.seek(0)
            words = told.read()
            # It leaves out what it cannot read, and may only say so: then nothing counts as read.
            if status or broken or words:
                raise self.fault(f"is damaged ({_told(words, broken)})") from broken

    def _walk_folder(self, gate: Gate, sink_for: SinkFor) -> None:
        import subprocess

        beside = os.path.dirname(os.path.abspath(self.parts[0]))
        with tempfile.TemporaryDirectory(dir=beside, prefix="unpacking-") as folder:
            result = subprocess.run(
                self._unpacking_words(folder),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                check=False,
            )
            if result.returncode:
                raise self.fault(f"is damaged ({_told(result.stdout, None)})")
            for path in _entries(folder):
                self._hand_over(folder, path, gate, sink_for)

    def _unpacking_words(self, folder: str) -> list[str]:
        rar = os.path.abspath(self.parts[0])
        if os.path.basename(self._program).startswith("unar"):
            # An empty password: it must never wait for one.
            return [self._program, "-quiet", "-force-overwrite", "-no-directory", "-password", "",
                    "-output-directory", folder, rar]  # fmt: skip
        return [self._program, "x", "-inul", "-p-", "-y", rar, folder + os.sep]

    def _hand_over(self, folder: str, path: str, gate: Gate, sink_for: SinkFor) -> None:
        status = os.lstat(path)
        is_folder = stat.S_ISDIR(status.st_mode)
        fault = ""
        if stat.S_ISLNK(status.st_mode):
            gate.note_link(os.path.relpath(path, folder), os.readlink(path))
            return
        if not (is_folder or stat.S_ISREG(status.st_mode)):
            fault = "is neither a file nor a folder"
        name = os.path.relpath(path, folder)
        size = 0 if is_folder else status.st_size
        member = gate.admit(name, size, fault, is_folder=is_folder)
        sink = None if is_folder else sink_for(member, size, bool(status.st_mode & stat.S_IXUSR))
        if sink is None:
            return
        with open(path, "rb") as file:
            pour(file, sink)


def _entries(folder: str) -> Iterator[str]:
    """Yield all that lies in a folder, each after the folder it is in, in the order of names."""
    for above, folders, files in os.walk(folder):
        folders.sort()
        for name in sorted([*folders, *files]):
            yield os.path.join(above, name)


def _ended(process: object) -> int:
    """Wait for the extractor, and stop it where it does not end by itself."""
    import subprocess

    assert isinstance(process, subprocess.Popen)
    try:
        return int(process.wait(timeout=10))
    except subprocess.TimeoutExpired:
        process.kill()
        return int(process.wait())


def _told(output: bytes, error: Exception | None) -> str:
    lines = output.decode("utf-8", "replace").strip().splitlines()
    return lines[-1] if lines else str(error or "the extractor gave no reason")
