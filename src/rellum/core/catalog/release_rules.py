"""What a release does with its archives, as plain immutable values: where it lays files, and its edits."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

from rellum.core.patching.model import Setting, SettingsForm
from rellum.core.patching.patch_forms import EditForm
from rellum.core.values.paths import PlacePath, TargetPath

KeyPath = tuple[str | int, ...]


ChosenOptions = tuple[tuple[str, str], ...]
"""Choices by option group; a rule applies if all of them are chosen."""


class Source(NamedTuple):
    """Where a statement stands: a TOML file and the keys that lead to it."""

    file: str
    key: KeyPath = ()

    def at(self, *keys: str | int) -> Source:
        """Return the source of something inside this one."""
        return Source(file=self.file, key=self.key + keys)


SettingsUpdate = Literal["replace", "merge", "leave"]
"""What becomes of a settings file that the user changed when a release brings another."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaceRule:
    """Which members of the archives go where.

    ``take`` is a glob over the archive's members; what stands before its first wildcard is not
    part of the path under ``to``. ``expect`` names files and folders (with a trailing slash) that
    must be found there. Of what is taken, ``leave_out`` (globs) goes; ``strip`` folders are taken off
    the front of the rest, which ``rename`` (patterns and what they become) then names.
    ``options`` are choices by group: the rule holds where all of them are chosen.

    Instead of taking members, a rule can bring a copy of a vanilla file (``copy``), a small text made
    from choices (``text``), make a folder that must be there (``is_folder``), or lay an archive whole, as
    it is (``is_packed``; ``take`` is then what its name is like).
    """

    take: str
    to: TargetPath
    expect: tuple[str, ...]
    source: Source
    leave_out: tuple[str, ...] = ()
    strip: int = 0
    rename: tuple[tuple[str, str], ...] = ()
    options: ChosenOptions = ()
    copy: PlacePath | None = None
    text: str | None = None
    is_folder: bool = False
    is_packed: bool = False

    @property
    def takes_members(self) -> bool:
        """Whether it takes files out of an archive."""
        return not (self.copy or self.text is not None or self.is_folder or self.is_packed)


class DiffPart(NamedTuple):
    """Which file of a diff, counted from 0; and whether the diff makes or deletes it."""

    number: int = 0
    is_new: bool = False
    is_gone: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class FileEdit:
    """A file that a release changes, by a patch that is a member of its archives, or by ``settings``.

    ``fuzz`` is how many lines of context a diff may pass over. ``over`` and ``gives`` are the
    SHA-256 of the file before and after, None where the card does not tell. ``options``: for which
    choices it is.

    With a number in ``strip``, ``path`` is a folder, and the diff is of any files in it: so many folders are
    taken off the names in it. ``part`` is the one file of such a diff that an edit is about.
    """

    path: TargetPath
    form: EditForm
    member: str
    fuzz: int
    over: str | None
    gives: str | None
    options: ChosenOptions
    source: Source
    settings_form: SettingsForm | None = None
    settings: tuple[Setting, ...] = ()
    strip: int | None = None
    part: DiffPart | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseFile:
    """An archive of a release. ``size`` is in bytes, None where the card does not tell.

    ``sha1`` and ``md5`` only recognise. ``unpacked`` is its members' size together, in bytes.
    ``page`` is where a person gets it, ``by_hand`` what that person must do there. ``options`` are
    choices by group: it is only needed where all of them are chosen.
    """

    name: str
    size: int | None = None
    sha256: str | None = None
    blake3: str | None = None
    urls: tuple[str, ...] = ()
    by_hand: str = ""
    page: str = ""
    sha1: str | None = None
    md5: str | None = None
    unpacked: int | None = None
    options: ChosenOptions = ()
