"""An archive as the rest of Rellum sees it: a list of checked members that can be extracted."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, NewType

from rellum.core.errors import UserError
from rellum.core.hashing import Digest
from rellum.core.joined_file import Ready, at_once
from rellum.core.progress import Listener, silent
from rellum.core.values.paths import MemberPath

Form = NewType("Form", str)
"""What an archive is by its content: the id of a form in ``rellum.core.archives.forms``."""

ZIP: Final = Form("zip")
"""The form of archives that were taken before there were others."""

SINGLE_FILE: Final = Form("file")
"""The form of a single file that is no archive."""

AGAIN: Final = "Download the archive again. If that fails, too, tell its author."


class ArchiveFault(UserError):
    """An archive is damaged, hostile, or no archive."""

    code = "archive-fault"


class NotAnArchive(ArchiveFault):
    """A file is of no kind of archive that Rellum reads."""

    code = "not-an-archive"


class ContentMismatch(UserError):
    """A member's content is not what the shelf recorded when it took the archive."""

    code = "content-mismatch"


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """What an archive may hold at most. ``unpacked`` is in bytes.

    ``ratio`` is unpacked size to packed size: DEFLATE packs at most 1032 to 1, so a zip that declares
    more is lying, or a bomb. Up to ``ratio_free`` bytes together, members may pack as well as they
    like. ``depth`` counts folders inside one another.
    """

    members: int = 1_000_000
    unpacked: int = 1 << 40
    ratio: int = 1100
    ratio_free: int = 64 << 20
    depth: int = 64


STANDARD_LIMITS: Final = Limits()


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One file inside an archive that was checked. ``size`` is in bytes.

    ``copy_of`` is the member whose bytes these are, where the archive has a link here.
    """

    path: MemberPath
    size: int
    digest: Digest
    executable: bool
    copy_of: MemberPath | None = None

    @property
    def stored_as(self) -> MemberPath:
        """The member that has its bytes."""
        return self.copy_of or self.path


@dataclass(frozen=True, slots=True, kw_only=True)
class Extraction:
    """Write ``member`` to the new file ``target``; its content must have ``digest``."""

    member: MemberPath
    digest: Digest
    target: str
    mode: int


class Archive(ABC):
    """An open archive. ``name`` stands for it in messages; ``parts`` are its files, in order.

    All readers are made with the same arguments. ``encoding`` is how the names of members were written
    where they were no Unicode, else empty. ``ready`` is asked before members' bytes are read: whoever
    copies the archive sets it, to let the check stay behind the copy.
    """

    def __init__(
        self, parts: Sequence[str], name: str, limits: Limits, form: Form, encoding: str = ""
    ) -> None:
        """Open it; a list of members is read now. Raises ArchiveFault for what is damaged or hostile."""
        self.parts = tuple(parts)
        self.name = name
        self.limits = limits
        self.form = form
        self.encoding = encoding
        self.ready: Ready = at_once

    @property
    def packed_bytes(self) -> int:
        """How many bytes its files have together."""
        return sum(map(os.path.getsize, self.parts))

    @abstractmethod
    def check(self, listen: Listener = silent) -> tuple[Member, ...]:
        """Read every member in full. Raises ArchiveFault, naming the member."""

    @abstractmethod
    def extract(self, jobs: Sequence[Extraction], listen: Listener = silent) -> None:
        """Write members to new files. Raises ContentMismatch, ArchiveFault, OSError."""

    def fault(self, message: str) -> ArchiveFault:
        """Return the error that this archive is damaged."""
        return ArchiveFault(f"{self.name}: {message}", hint=AGAIN)
