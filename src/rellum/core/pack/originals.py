"""The store of originals: what layers displaced, by content.

A file is put in before it is replaced, as a second name of the same file where the file system
has hard links (no bytes are copied), else as a copy; also as a copy where somebody else could write
into it: it has further names, or is open for writing. When it is replaced the store's name is the
only one left. A file comes back the same way, and the store lets go of its name only after the
change is recorded.

The folder is flat: making and removing folders for the first letters of the hash would cost more
than the files do.
"""

from __future__ import annotations

import errno
import os
import sys
from collections.abc import Container, Iterable, Iterator

from rellum.core.errors import UserError
from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.disk import Disk

DAMAGED = ".damaged"
"""The ending under which a content is kept that is not what its name said."""

_FROM_COPY = "Nothing was changed. 'rellum restore --from COPY' takes it from a clean copy."


class FolderChanged(UserError):
    """A file changed between the plan and the work."""

    code = "folder-changed"


class ChangedUnseen(FolderChanged):
    """The content of a file changed, and its size and time did not."""

    code = "changed-unseen"


class OriginalDamaged(UserError):
    """A file in the store of originals is missing or is not what its name says."""

    code = "original-damaged"


def is_shared(path: str) -> bool:
    """Whether a file has further names, or somebody has it open for writing (only Linux can tell)."""
    if os.lstat(path).st_nlink > 1:
        return True
    if sys.platform != "linux":
        return False
    import fcntl
    import signal

    # A read lease is refused while anybody has the file open for writing; see fcntl(2), F_SETLEASE.
    descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        # Who opens it for writing in this moment makes a signal: one that nobody minds, not one that kills.
        fcntl.fcntl(descriptor, fcntl.F_SETSIG, signal.SIGURG)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_RDLCK)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except OSError as error:
        return error.errno == errno.EAGAIN
    finally:
        os.close(descriptor)
    return False


class Originals:
    """The store in one folder."""

    def __init__(self, folder: str, disk: Disk) -> None:
        self.folder = folder
        self.disk = disk

    def path_of(self, digest: Digest) -> str:
        """Return where a content lies, or would."""
        return os.path.join(self.folder, digest)

    def has(self, digest: Digest) -> bool:
        """Whether a content is in the store."""
        return os.path.exists(self.path_of(digest))

    def put(self, path: str, digest: Digest) -> str:
        """Keep the content of ``path``, which must have that hash; return where it lies.

        Raises FolderChanged where it has not, OSError.
        """
        kept = self.path_of(digest)
        if self.is_whole(digest):
            if hash_file(path) != digest:
                raise self._changed(path)
            return kept
        incoming = kept + ".new"
        if os.path.lexists(incoming):
            self.disk.remove(incoming)
        if is_shared(path):
            self.disk.copy(path, incoming)
        else:
            self.disk.link_or_copy(path, incoming)
        if hash_file(incoming) != digest:
            self.disk.remove(incoming)
            raise self._changed(path)
        self.disk.move_over(incoming, kept)
        return kept

    def is_whole(self, digest: Digest) -> bool:
        """Whether a content is in the store, and is what its name says."""
        return self.has(digest) and hash_file(self.path_of(digest)) == digest

    def put_copy(self, path: str, digest: Digest) -> str:
        """Keep a copy of a file that goes on living elsewhere. Raises FolderChanged, OSError."""
        kept = self.path_of(digest)
        self.disk.remove(kept + ".new")
        self.disk.copy(path, kept + ".new")
        if hash_file(kept + ".new") != digest:
            self.disk.remove(kept + ".new")
            raise self._changed(path)
        self.disk.move_over(kept + ".new", kept)
        return kept

    def bring_out(self, digest: Digest, target: str, *, name: str, keep: bool) -> None:
        """Put a content at ``target``, verified; a copy where the store must ``keep`` its own.

        ``name`` is the file in the game that it is for, as messages show it.

        Raises OriginalDamaged, OSError.
        """
        kept = self.path_of(digest)
        try:
            if keep or is_shared(kept):
                self.disk.copy(kept, target)
            else:
                self.disk.link_or_copy(kept, target)
        except FileNotFoundError as error:
            raise OriginalDamaged(
                f"the original of {name} is missing: {kept}",
                hint=_FROM_COPY,
            ) from error
        if hash_file(target) != digest:
            aside = kept + DAMAGED
            self.disk.move_over(kept, aside)  # so that it counts as missing from now on
            raise OriginalDamaged(
                f"the original of {name} is damaged: {aside}",
                hint=_FROM_COPY,
            )

    def damaged(self) -> Iterator[Digest]:
        """Yield what is in the store and is not what its name says; every file is read. Raises OSError."""
        for name in sorted(os.listdir(self.folder)) if os.path.isdir(self.folder) else ():
            if "." not in name and hash_file(self.path_of(Digest(name))) != name:
                yield Digest(name)

    def let_go(self, digests: Iterable[Digest]) -> None:
        """Remove contents that nothing needs any more."""
        for digest in digests:
            self.disk.remove(self.path_of(digest))

    def let_go_of_all_but(self, needed: Container[Digest]) -> None:
        """Remove whatever is not needed: what an interrupted change may have left."""
        for name in os.listdir(self.folder) if os.path.isdir(self.folder) else ():
            if name not in needed and not name.endswith(DAMAGED):
                self.disk.remove(os.path.join(self.folder, name))

    def _changed(self, path: str) -> FolderChanged:
        return FolderChanged(
            f"{path} changed while Rellum worked",
            hint="Close the program that writes to the game folder, then try again.",
        )
