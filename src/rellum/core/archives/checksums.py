"""Checksum lists that come with archives: in coreutils' form (SHA256SUMS and others), and SFV."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Final

_LENGTHS: Final = {8: "crc32", 32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}
_LINE = re.compile(r"^\\?(?P<digest>[0-9a-fA-F]{32,128}) [ *](?P<name>.+)$")
_TAGGED = re.compile(
    r"^(?P<kind>MD5|SHA1|SHA256|SHA512) \((?P<name>.+)\) = (?P<digest>[0-9a-fA-F]+)$"
)
_SFV = re.compile(r"^(?P<name>.+?)\s+(?P<digest>[0-9a-fA-F]{8})$")
_BARE = re.compile(r"^(?P<digest>[0-9a-fA-F]{32,128})$")
_LIST_NAME = re.compile(
    r"(^(md5|sha1|sha256|sha512)sums?(\.txt)?$)|(^checksums?(\.\w+)?\.txt$)"
    r"|(\.(md5|sha1|sha256|sha512|sfv|md5sums|sha256sums)$)",
    re.IGNORECASE,
)
_MOST_BYTES: Final = 4 << 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Listed:
    """What one line of a checksum list says of a file. ``kind``: crc32, md5, sha1, sha256, sha512."""

    name: str
    kind: str
    digest: str
    place: str


def is_checksum_list(path: str) -> bool:
    """Whether a file is a checksum list, by its name and size."""
    name = os.path.basename(path)
    return bool(_LIST_NAME.search(name)) and os.path.getsize(path) <= _MOST_BYTES


def read_checksums(path: str) -> list[Listed]:
    """Return what a checksum list says; lines that it cannot be read by are passed over.

    Raises OSError.
    """
    with open(path, encoding="utf-8-sig", errors="replace") as file:
        lines = file.read().splitlines()
    is_sfv = path.lower().endswith(".sfv")
    forms = (_SFV,) if is_sfv else (_LINE, _TAGGED, _BARE)
    found = []
    for number, text in enumerate(lines, 1):
        line = text.strip()
        if not line or line.startswith((";", "#")):
            continue
        match = next(filter(None, (form.match(line) for form in forms)), None)
        if match is None:
            continue
        named = match.groupdict().get("name") or os.path.splitext(os.path.basename(path))[0]
        kind = _LENGTHS.get(len(match["digest"]))
        if kind:
            found.append(
                Listed(
                    name=named.replace("\\", "/").rpartition("/")[2],
                    kind=kind,
                    digest=match["digest"].lower(),
                    place=f"{os.path.basename(path)}:{number}",
                )
            )
    return found


def lists_beside(paths: Iterable[str]) -> list[Listed]:
    """Return what all checksum lists say that lie in the folders of these files."""
    found: list[Listed] = []
    for folder in dict.fromkeys(os.path.dirname(os.path.abspath(path)) for path in paths):
        try:
            names = sorted(os.listdir(folder))
        except OSError:
            continue
        for name in names:
            path = os.path.join(folder, name)
            if _LIST_NAME.search(name) and os.path.isfile(path) and is_checksum_list(path):
                found += read_checksums(path)
    return found
