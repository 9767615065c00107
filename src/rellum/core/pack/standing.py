"""What stands at a path now, hashed only where size or time are not as known."""

from __future__ import annotations

import os
import stat

from rellum.core.errors import UserError
from rellum.core.hashing import hash_file
from rellum.core.pack.state import State
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, Roots, shown


def content_at(
    roots: Roots, path: PlacePath, known: Content | None, *, trusts: bool = True
) -> tuple[Content | None, bool]:
    """Return what stands at a path, and whether it differs from what is known of it.

    ``trusts``: the same size and time prove that nothing changed; else it is hashed in any case. Raises
    CannotLay where it is no file, OSError.
    """
    absolute = roots.absolute(path)
    try:
        status = os.lstat(absolute)
    except (FileNotFoundError, NotADirectoryError):
        return None, known is not None
    if not stat.S_ISREG(status.st_mode):
        what = "a pipe, a device or the like"
        if stat.S_ISDIR(status.st_mode) or stat.S_ISLNK(status.st_mode):
            what = "a folder" if stat.S_ISDIR(status.st_mode) else "a link"
        raise CannotLay(
            f"{shown(path)} is {what} now, where a file belongs",
            hint="Move it away and try again; nothing was changed.",
        )
    if trusts and known and (status.st_size, status.st_mtime_ns) == (known.size, known.mtime_ns):
        return known, False
    digest = hash_file(absolute)
    content = Content(
        digest=digest,
        size=status.st_size,
        mode=stat.S_IMODE(status.st_mode),
        mtime_ns=status.st_mtime_ns,
    )
    return content, known is None or known.digest != digest


def note_suspect(state: State, path: PlacePath, file: str) -> None:
    """Note that a file's content is not what its size and time say: every command hashes it from then on."""
    status = os.lstat(file)
    state.set_suspects({**state.suspects(), path: (status.st_size, status.st_mtime_ns)})


class CannotLay(UserError):
    """Something that Rellum must not replace is where a file should go."""

    code = "cannot-lay"
