"""The entries of one folder with what the file system says of each, as quickly as it can be had."""

from __future__ import annotations

import os
from collections.abc import Iterator

_BY_DESCRIPTOR = os.stat in os.supports_dir_fd and os.listdir in os.supports_fd


def entries_in(folder: str) -> Iterator[tuple[str, os.stat_result]]:
    """Yield the name and status of what lies in a folder; links are not followed. Raises OSError.

    Asking by name under an open folder spares the system the way to it for every file. Where folders cannot
    be opened, the listing itself knows sizes and times.
    """
    if not _BY_DESCRIPTOR:
        with os.scandir(folder) as found:
            for entry in found:
                yield entry.name, entry.stat(follow_symlinks=False)
        return
    stat_of = os.stat
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        for name in os.listdir(descriptor):
            try:
                status = stat_of(name, dir_fd=descriptor, follow_symlinks=False)
            except FileNotFoundError:  # it went away since the folder was listed
                continue
            yield name, status
    finally:
        os.close(descriptor)
