"""What a file is by its content, whatever its name; and what it is when it is no archive."""

from __future__ import annotations

import html
import io
import os
import re
import tarfile
import zipfile
from collections.abc import Sequence
from typing import Final

from rellum.core.archives.model import Form
from rellum.core.archives.tar_archive import open_packed
from rellum.core.joined_file import JoinedFile

HEAD_BYTES: Final = 16 << 10

_MARKS: Final[tuple[tuple[bytes, Form], ...]] = (
    (b"7z\xbc\xaf\x27\x1c", "7z"),
    (b"Rar!\x1a\x07", "rar"),
    (b"\x1f\x8b", "tar.gz"),
    (b"BZh", "tar.bz2"),
    (b"\xfd7zXZ\x00", "tar.xz"),
    (b"\x28\xb5\x2f\xfd", "tar.zst"),
)
_AR_MARK: Final = b"!<arch>\n"
_AR_HEAD_BYTES: Final = 60
_ZIP_MARKS: Final = (b"PK\x03\x04", b"PK\x05\x06", b"PK\x07\x08")
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


def form_of(parts: Sequence[str]) -> Form | None:
    """Return what kind of archive the files are, joined; None where they are none that Rellum reads.

    Raises OSError.
    """
    with JoinedFile(parts) as file:
        head = file.read_at(0, HEAD_BYTES)
    if head.startswith(_ZIP_MARKS):
        return "zip"
    for mark, form in _MARKS:
        if head.startswith(mark):
            return form if not form.startswith("tar.") or _holds_a_tar(parts, form) else None
    if _is_tar_header(head[:512]):
        return "tar"
    # A program that unpacks itself, or another file with a zip behind it.
    with io.BufferedReader(JoinedFile(parts)) as stream:
        return "zip" if zipfile.is_zipfile(stream) else None


def _holds_a_tar(parts: Sequence[str], form: Form) -> bool:
    """Whether a tar begins inside a packed file. Damage is left to be found when it is read."""
    with io.BufferedReader(JoinedFile(parts)) as stream:
        try:
            return _is_tar_header(open_packed(stream, form).read(512))
        except Exception:  # each packer has errors of its own
            return True


def _is_tar_header(block: bytes) -> bool:
    if len(block) < 512 or block == bytes(512):
        return False
    try:
        tarfile.TarInfo.frombuf(block, "utf-8", "surrogateescape")
    except (tarfile.TarError, ValueError):
        return False
    return True


def unfinished(path: str) -> str:
    """Say why a file seems to be still on its way here, or return an empty string."""
    if path.lower().endswith(_PARTIAL_NAMES):
        return "its name says that the download is not finished"
    for ending in _PARTIAL_NAMES:
        if os.path.exists(path + ending):
            return f"{os.path.basename(path) + ending} lies beside it: the download is not finished"
    return ""


def what_instead(head: bytes) -> str:
    """Say what a file that is no archive seems to be, by its first bytes; empty where unknown."""
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if start.startswith((b"<!doctype html", b"<html", b"<head")) or b"<html" in start[:1024]:
        title = page_title(head)
        said = f" ('{title}')" if title else ""
        return f"{A_PAGE}{said}"
    if start.startswith((b"{", b"[")) and b'"' in start[:200]:
        return f"is a response meant for programs, not an archive: {_first_line(head)}"
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
    text = html.unescape(found.group(1).decode("utf-8", "replace"))
    return " ".join(text.split())[:80]


def _first_line(head: bytes) -> str:
    return " ".join(head[:200].decode("utf-8", "replace").split())[:80]
