"""The gate that every member of every archive passes before a byte of it is used.

No member may leave its place, hide, collide with another, or fill the disk. One that does refuses
the archive whole.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from typing import Final, NamedTuple

from rellum.core.archives.model import ArchiveFault, Limits
from rellum.core.values.paths import MemberPath, UnsafePath, parse_member_path

LONGEST_TARGET: Final = 4096
"""So many bytes has a link's target at most, as in POSIX systems (PATH_MAX)."""


class Link(NamedTuple):
    """A member that points to another; ``from_top``: counted from the archive's top, not from its folder."""

    path: MemberPath
    target: str
    from_top: bool = False


class Gate:
    """Admits the members of one archive, one after another."""

    def __init__(self, name: str, packed_bytes: int, limits: Limits) -> None:
        self._name = name
        self._packed = packed_bytes
        self._limits = limits
        self._count = 0
        self._declared = 0
        self._spent = 0
        self._files: dict[str, MemberPath] = {}
        self._folders: set[str] = set()
        self.links: dict[str, Link] = {}
        self.named_folders: set[str] = set()

    def refuse(self, message: str) -> ArchiveFault:
        """Return the error that refuses the archive whole."""
        return ArchiveFault(
            f"{self._name}: {message}; Rellum refuses the whole archive",
            hint="Nothing was unpacked. Do not use this archive unless you know the reason.",
        )

    def admit(
        self, name: str, size: int, fault: str = "", *, is_folder: bool = False
    ) -> MemberPath:
        """Return the member's path. ``size`` is what it declares, ``fault`` what its kind has against it.

        Raises ArchiveFault.
        """
        self._count += 1
        if self._count > self._limits.members:
            raise self.refuse(
                f"it has more than {self._limits.members:,} members (limit 'members')"
            )
        if fault:
            raise self.refuse(f"the member {name!r} {fault}")
        try:
            path = parse_member_path(name)
        except UnsafePath as error:
            raise self.refuse(str(error)) from error
        if path.count("/") >= self._limits.depth:
            raise self.refuse(
                f"the member {name[:60]!r}… lies more than {self._limits.depth} folders deep "
                "(limit 'depth')"
            )
        if size < 0:
            raise self.refuse(f"the member {name!r} declares a size of {size}")
        self._declared += size
        self._refuse_a_bomb(self._declared, "it would unpack to")
        if is_folder or name.endswith(("/", "\\")):
            self.named_folders.add(path)
        else:
            self._place(path)
        return path

    def note_link(self, name: str, target: str, *, from_top: bool = False) -> None:
        """Admit a link by its name; where it leads is looked at when all members are known."""
        path = self.admit(name, 0, is_folder=True)
        self.named_folders.discard(path)
        self.links[path] = Link(path, target, from_top)

    def spend(self, count: int) -> None:
        """Count bytes that were really unpacked. Raises ArchiveFault where they are too many."""
        self._spent += count
        self._refuse_a_bomb(self._spent, "it unpacks to more than")

    def _refuse_a_bomb(self, size: int, words: str) -> None:
        limits = self._limits
        if size > limits.unpacked:
            raise self.refuse(f"{words} {size:,} bytes (limit 'unpacked' {limits.unpacked:,})")
        if size > limits.ratio_free and size > limits.ratio * self._packed:
            raise self.refuse(
                f"{words} {size:,} bytes from {self._packed:,} (limit 'ratio' {limits.ratio:,})"
            )

    def _place(self, path: MemberPath) -> None:
        """Find a member that cannot lie beside those before it.

        Names that differ in capitals alone can, for a game and a system that tell them apart.
        """
        key = unicodedata.normalize("NFC", path)
        if before := self._files.get(key):
            raise self.refuse(f"the members {before!r} and {path!r} would be one file")
        if key in self._folders:
            raise self.refuse(f"{path!r} is a file and a folder at once")
        self._files[key] = path
        for cut in _cuts(key):
            folder = key[:cut]
            if folder in self._folders:
                continue
            if both := self._files.get(folder):
                raise self.refuse(f"{both!r} is a file and a folder at once")
            self._folders.add(folder)


def _cuts(path: str) -> Iterator[int]:
    """Yield where a path's folders end, the nearest first."""
    cut = path.rfind("/")
    while cut > 0:
        yield cut
        cut = path.rfind("/", 0, cut)
