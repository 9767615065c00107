"""The file operations that a change is made of.

A small port, so that tests can stop the process or fail the call at any of them: every method
calls ``step`` before it acts. Nothing here flushes except the methods named so; the order of
flushes is the journal's contract (``rellum.core.change.journal``).
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from rellum.core.durable import flush, flush_filesystem, flush_folder, write_durably
from rellum.core.errors import UserError
from rellum.core.progress import Listener

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive, Extraction


_STAYS = (errno.ENOENT, errno.ENOTEMPTY, errno.EEXIST, errno.ENOTDIR)
"""What is no fault of a removed folder: it is gone, is not empty, or is none."""


class LeadsOut(UserError):
    """A folder on the way to a file became a link: nothing is written through it."""

    code = "leads-out"


class Disk:
    """The real file system."""

    def step(self, name: str) -> None:
        """Called before each operation; tests override it."""

    def make_folder(self, path: str) -> None:
        """Make one folder; one that is there already is good."""
        self.step("make folder")
        try:
            os.mkdir(path)
        except FileExistsError:
            if os.path.islink(path) or not os.path.isdir(path):
                raise

    def remove_folder(self, path: str) -> None:
        """Remove a folder if it is there and empty. Raises OSError where something else keeps it."""
        self.step("remove folder")
        try:
            os.rmdir(path)
        except OSError as error:
            if error.errno not in _STAYS and os.path.isdir(path) and not os.listdir(path):
                raise

    def remove_tree(self, path: str) -> None:
        """Remove a folder of Rellum's own with all in it; nothing happens where there is none."""
        self.step("remove tree")
        if os.path.lexists(path):
            for folder, _, names in os.walk(path) if os.name == "nt" else ():
                for name in names:  # read-only files of the game are staged as such
                    os.chmod(os.path.join(folder, name), stat.S_IWRITE | stat.S_IREAD)
            shutil.rmtree(path)

    def move_over(self, source: str, target: str) -> None:
        """Rename a file onto its final path in one step, over whatever file stands there."""
        self.step("move over")
        _writable(os.replace, target, source, target)

    def remove(self, path: str) -> None:
        """Remove a file; one that is gone already is good."""
        self.step("remove")
        try:
            _writable(os.unlink, path, path)
        except FileNotFoundError:
            pass

    def link_or_copy(self, source: str, target: str) -> None:
        """Give a file a second name, or copy it where there can be no hard link."""
        self.step("link or copy")
        try:
            os.link(source, target)
        except (OSError, NotImplementedError):
            _copy_new(source, target)

    def move_or_copy(self, source: str, target: str) -> None:
        """Move a file that nobody else needs to a new path, or copy it to another file system."""
        self.step("move or copy")
        try:
            os.rename(source, target)
        except OSError:
            _copy_new(source, target)

    def copy(self, source: str, target: str) -> None:
        """Copy a file's bytes to a new file."""
        self.step("copy")
        _copy_new(source, target)

    def set_mode_and_time(self, path: str, mode: int, mtime_ns: int) -> None:
        """Give a file a mode and a time (ns since 1970)."""
        self.step("set mode and time")
        os.chmod(path, mode)
        os.utime(path, ns=(mtime_ns, mtime_ns))

    def set_mode(self, path: str, mode: int) -> None:
        """Give a file a mode."""
        self.step("set mode")
        os.chmod(path, mode)

    def write_new(self, path: str, content: bytes, mode: int) -> None:
        """Write a small new file."""
        self.step("write new")
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
        with open(os.open(path, flags, mode), "wb") as file:
            file.write(content)

    def extract(self, archive: Archive, jobs: Sequence[Extraction], listen: Listener) -> None:
        """Unpack members to new files."""
        self.step("extract")
        archive.extract(jobs, listen)

    def write_durably(self, path: str, content: bytes) -> None:
        """Write a file so that it survives a power cut."""
        self.step("write durably")
        write_durably(path, content)

    def append_durably(self, path: str, content: bytes) -> None:
        """Append to a file so that the addition survives a power cut."""
        self.step("append durably")
        with open(path, "ab") as file:
            file.write(content)
            file.flush()
            flush(file.fileno())

    def overwrite_durably(self, path: str, offset: int, content: bytes) -> None:
        """Write over bytes that a file has already, so that it survives a power cut."""
        self.step("overwrite durably")
        with open(path, "r+b") as file:
            file.seek(offset)
            file.write(content)
            file.flush()
            flush(file.fileno())

    def remove_durably(self, path: str) -> None:
        """Remove a file so that it stays removed after a power cut."""
        self.step("remove durably")
        try:
            os.unlink(path)
        except FileNotFoundError:
            pass
        flush_folder(os.path.dirname(path))

    def flush(self, folder: str, files: Sequence[str], folders: Sequence[str]) -> None:
        """Make a batch durable; see ``rellum.core.durable.flush_filesystem``."""
        self.step("flush")
        flush_filesystem(folder, files, folders)


def _writable(call: Callable[..., None], path: str, *arguments: str) -> None:
    """Call something that replaces or removes ``path``; a read-only file is made writable for it.

    Windows refuses to replace or remove such a file. What comes in its place has its own mode; where the
    call fails all the same, the file is read-only again. Raises OSError.
    """
    try:
        call(*arguments)
    except PermissionError:
        try:
            mode = os.lstat(path).st_mode
        except OSError:
            mode = stat.S_IWUSR
        if mode & stat.S_IWUSR or not stat.S_ISREG(mode):
            raise
        os.chmod(path, stat.S_IMODE(mode) | stat.S_IWUSR)
        try:
            call(*arguments)
        except OSError:
            os.chmod(path, stat.S_IMODE(mode))
            raise


def _copy_new(source: str, target: str) -> None:
    if os.path.lexists(target):
        raise FileExistsError(target)
    shutil.copyfile(source, target, follow_symlinks=False)


def refuse_links_above(root: str, path: str, good: set[str], *, may_lack: bool = False) -> None:
    """Raise LeadsOut if a folder between ``root`` and ``path`` is a link or no folder.

    ``good`` collects the folders that were found to be real ones. ``may_lack``: they need not be there.
    """
    folder = os.path.dirname(path)
    waiting = []
    while folder != root and folder not in good and len(folder) > len(root):
        waiting.append(folder)
        folder = os.path.dirname(folder)
    for each in reversed(waiting):
        if may_lack and not os.path.lexists(each):
            return
        if os.path.islink(each) or not os.path.isdir(each):
            raise LeadsOut(
                f"{each} is a link or no folder",
                hint="Rellum never writes through a link. Put the folder back and try again.",
            )
        good.add(each)
