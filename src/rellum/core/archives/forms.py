"""The forms of archives: a table. What a file is by its content, and what it is when it is no archive."""

from __future__ import annotations

import io
import os
import re
from collections.abc import Callable, Sequence
from importlib import import_module
from typing import Final, NamedTuple

from rellum.core.archives.model import SINGLE_FILE, Archive, Form
from rellum.core.joined_file import JoinedFile
from rellum.core.zip_format import END_MARK, LOCAL_MARK, SPLIT_MARK

HEAD_BYTES: Final = 16 << 10

_AR_MARK: Final = b"!<arch>\n"
_AR_HEAD_BYTES: Final = 60
_PARTIAL_NAMES: Final = (
    ".part",
    ".partial",
    ".crdownload",
    ".download",
    ".opdownload",
    ".filepart",
)
"""Endings that browsers and download programs give to what they have not finished."""


A_PAGE: Final = "is a web page"


class ArchiveForm(NamedTuple):
    """A form of archive: all that Rellum knows of it before it opens one. To add a form, add a row.

    id: how states and messages call it
    reader: module and class of the reader, below this package; imported when such an archive is opened
    endings: how names of such archives end
    marks: what such files begin with; ``holds`` then tells whether it really is one
    looks_like: tells it of a file that begins with no mark of any form
    """

    id: Form
    reader: str
    endings: tuple[str, ...]
    marks: tuple[bytes, ...] = ()
    holds: Callable[[Sequence[str], Form], bool] | None = None
    looks_like: Callable[[Sequence[str], bytes], bool] | None = None

    def reader_class(self) -> type[Archive]:
        """Return the class that reads it."""
        module, _, name = self.reader.partition(":")
        found: type[Archive] = getattr(import_module(f"rellum.core.archives.{module}"), name)
        return found


def _holds_a_tar(parts: Sequence[str], form: Form) -> bool:
    """Whether a tar begins inside a packed file. Damage is left to be found when it is read."""
    from rellum.core.archives.tar_archive import open_packed

    with io.BufferedReader(JoinedFile(parts)) as stream:
        try:
            return _is_tar_header(open_packed(stream, form).read(512))
        except Exception:  # each packer has errors of its own
            return True


def _begins_a_tar(_: Sequence[str], head: bytes) -> bool:
    return _is_tar_header(head[:512])


def _is_tar_header(block: bytes) -> bool:
    import tarfile

    if len(block) < 512 or block == bytes(512):
        return False
    try:
        tarfile.TarInfo.frombuf(block, "utf-8", "surrogateescape")
    except (tarfile.TarError, ValueError):
        return False
    return True


def _holds_a_7z(parts: Sequence[str], head: bytes) -> bool:
    """Whether a 7z lies behind the program that unpacks it."""
    if not head.startswith((b"MZ", b"\x7fELF")):
        return False
    from rellum.core.archives.seven_zip import begins_at

    with JoinedFile(parts) as file:
        return begins_at(file) > 0


def _ends_in_a_zip(parts: Sequence[str], _: bytes) -> bool:
    """Whether a zip lies behind a program that unpacks it, or behind another file."""
    import zipfile

    with io.BufferedReader(JoinedFile(parts)) as stream:
        return zipfile.is_zipfile(stream)


_TAR = "tar_archive:TarArchive"
_ZIP_MARKS = (LOCAL_MARK, END_MARK, SPLIT_MARK)

FORMS: Final = (
    ArchiveForm(
        Form("7z"),
        "seven_zip:SevenZipArchive",
        (".7z",),
        (b"7z\xbc\xaf\x27\x1c",),
        looks_like=_holds_a_7z,
    ),
    ArchiveForm(Form("rar"), "rar_archive:RarArchive", (".rar",), (b"Rar!\x1a\x07",)),
    ArchiveForm(Form("tar.gz"), _TAR, (".tar.gz", ".tgz"), (b"\x1f\x8b",), _holds_a_tar),
    ArchiveForm(Form("tar.bz2"), _TAR, (".tar.bz2", ".tbz", ".tbz2"), (b"BZh",), _holds_a_tar),
    ArchiveForm(Form("tar.xz"), _TAR, (".tar.xz", ".txz"), (b"\xfd7zXZ\x00",), _holds_a_tar),
    ArchiveForm(Form("tar.zst"), _TAR, (".tar.zst", ".tzst"), (b"\x28\xb5\x2f\xfd",), _holds_a_tar),
    ArchiveForm(Form("tar"), _TAR, (".tar",), looks_like=_begins_a_tar),
    ArchiveForm(
        Form("zip"), "zip_archive:ZipArchive", (".zip",), _ZIP_MARKS, looks_like=_ends_in_a_zip
    ),
    ArchiveForm(SINGLE_FILE, "single_file:SingleFile", ()),
)
"""Every form, in the order in which files that begin with no mark are looked at."""

_BY_ID = {form.id: form for form in FORMS}
ENDINGS: Final = tuple(ending for form in FORMS for ending in form.endings)
"""How names of archives end, of all forms."""


def known_form(form: Form) -> ArchiveForm:
    """Return what is known of a form. Raises KeyError for one that this Rellum does not know."""
    return _BY_ID[form]


def form_of(parts: Sequence[str]) -> Form | None:
    """Return what kind of archive the files are, joined; None where they are none that Rellum reads.

    Raises OSError.
    """
    with JoinedFile(parts) as file:
        head = file.read_at(0, HEAD_BYTES)
    for form in FORMS:
        if form.marks and head.startswith(form.marks):
            return form.id if form.holds is None or form.holds(parts, form.id) else None
    found = (form.id for form in FORMS if form.looks_like and form.looks_like(parts, head))
    return next(found, None)


def unfinished(path: str) -> str:
    """Say why a file seems to be still on its way here, or return an empty string."""
    if path.lower().endswith(_PARTIAL_NAMES):
        return "its name says that the download is not finished"
    for ending in _PARTIAL_NAMES:
        if os.path.exists(path + ending):
            return f"{os.path.basename(path) + ending} lies beside it: the download is not finished"
    return ""


PROGRAM: Final = "is a program, not an archive"


def what_instead(head: bytes) -> str:
    """Say what a file that is no archive seems to be, by its first bytes; empty where unknown."""
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if start.startswith((b"<!doctype html", b"<html", b"<head")) or b"<html" in start[:1024]:
        title = page_title(head)
        said = f" ('{title}')" if title else ""
        return f"{A_PAGE}{said}"
    if start.startswith((b"{", b"[")) and b'"' in start[:200]:
        return f"is a response meant for programs, not an archive: {_first_line(head)}"
    if head.startswith((b"MZ", b"\x7fELF", b"#!")):
        return PROGRAM
    if head and not head.strip(b"\0"):
        return "holds only zero bytes: the download never completed"
    return ""


def inner_of_ar(file: JoinedFile) -> list[str]:
    """Return the names of what an ``ar`` archive holds, as a ``.deb`` is one; empty for any other file."""
    names: list[str] = []
    at = len(_AR_MARK)
    if file.read_at(0, at) != _AR_MARK:
        return names
    while len(head := file.read_at(at, _AR_HEAD_BYTES)) == _AR_HEAD_BYTES:
        size = head[48:58].strip()
        if head[58:] != b"`\n" or not size.isdigit():
            break
        names.append(head[:16].decode("utf-8", "replace").rstrip().rstrip("/"))
        at += _AR_HEAD_BYTES + int(size) + int(size) % 2
    return names


def page_title(head: bytes) -> str:
    """Return the title of a web page, on one line of at most 80 signs."""
    found = re.search(rb"<title[^>]*>(.*?)</title", head, re.IGNORECASE | re.DOTALL)
    if not found:
        return ""
    import html  # of what is a page, alone

    text = html.unescape(found.group(1).decode("utf-8", "replace"))
    return " ".join(text.split())[:80]


def _first_line(head: bytes) -> str:
    return " ".join(head[:200].decode("utf-8", "replace").split())[:80]
