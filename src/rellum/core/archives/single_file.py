"""A file that is no archive, as an archive with one member: itself."""

from __future__ import annotations

import os
import stat

from rellum.core.archives.gate import Gate
from rellum.core.archives.stream_archive import SinkFor, StreamArchive, pour
from rellum.core.joined_file import JoinedFile


class SingleFile(StreamArchive):
    """A loose file under the name that it had."""

    def walk(self, gate: Gate, sink_for: SinkFor) -> None:
        """Hand over the file's bytes."""
        with JoinedFile(self.parts, self.ready) as file:
            executable = bool(os.stat(self.parts[0]).st_mode & stat.S_IXUSR)
            path = gate.admit(os.path.basename(self.name), file.size)
            sink = sink_for(path, file.size, executable)
            if sink is not None:
                pour(file, sink)
