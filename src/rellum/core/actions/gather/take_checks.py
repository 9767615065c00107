"""Checks before a file is taken: whether it is complete, and whether it is what the user says."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import replace

from rellum.core.archives.forms import ENDINGS, unfinished
from rellum.core.archives.model import AGAIN, ArchiveFault, Member
from rellum.core.archives.parts import part_by_name
from rellum.core.catalog.model import Release
from rellum.core.catalog.open_lines import MARK
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.layers.placing import inner_archives, place_archives
from rellum.core.layers.wrappers import PlacingFault
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.intake import Hashes


class UnfinishedCard(UserError):
    """The card of a release has lines that are still to be decided."""

    code = "unfinished-card"

    def __init__(self, release: Release, path: str) -> None:
        super().__init__(
            f"{path}: {release.name} is not finished in its card: {release.first_open}",
            hint=f"Decide what is marked '{MARK}' there, remove the marks, and take it again.",
        )


def shape_fault(release: Release, entry: ShelfEntry, members: Sequence[Member]) -> str:
    """Say why an archive has nothing of what a release lays; an empty text where it has something."""
    rules = [rule for rule in release.places if rule.takes_members]
    faults = []
    for rule in rules:
        try:
            place_archives([replace(rule, options=())], [(entry, members)])
            return ""
        except PlacingFault as fault:
            faults.append(fault.summary)
    return faults[0] if faults else ""


def refuse_other(path: str, release: Release, file: ReleaseFile, hashes: Hashes) -> None:
    """Refuse a file that was stated to be one whose card knows it to be another. Raises ArchiveFault."""
    wrong = ""
    if file.size is not None and file.size != hashes.size:
        wrong = f"{file.size:,} bytes, and this has {hashes.size:,}"
    elif file.blake3 and file.blake3 != hashes.digest:
        wrong = f"the hash {file.blake3[:16]}…, and this has {hashes.digest[:16]}…"
    elif file.sha256 and file.sha256 != hashes.others["sha256"]:
        wrong = f"the SHA-256 {file.sha256[:16]}…, and this has {hashes.others['sha256'][:16]}…"
    if wrong:
        raise ArchiveFault(
            f"{path}: {release.name} has {file.name} with {wrong} ({place_of(release.source)})",
            hint="This is a different file than the card means. If the card is wrong, correct it first.",
        )


def refuse_unfinished(path: str) -> None:
    if not os.path.exists(path):
        if "://" in path:
            raise ArchiveFault(
                f"{path} is an address, and files are taken",
                hint='Download it yourself, or write it into the card (from = ["…"]) and run '
                "'rellum fetch'.",
            )
        raise ArchiveFault(
            f"{path}: not found",
            hint="Name a file or a folder; with --each, every file in a folder is an archive.",
        )
    if not os.path.isfile(path):
        raise ArchiveFault(f"{path}: neither a file nor a folder")
    if fault := unfinished(path):
        raise ArchiveFault(
            f"{path}: {fault}", hint="Wait until the download has finished, then take it."
        )
    if os.path.getsize(path) == 0:
        raise ArchiveFault(f"{path}: the file is empty", hint=AGAIN)


def holds_only_archives(folder: str) -> bool:
    """Whether all that lies in a folder are files that bear names of archives, or of parts of one."""
    with os.scandir(folder) as entries:
        found = [
            entry.is_file()
            and (entry.name.lower().endswith(ENDINGS) or part_by_name(entry.name) is not None)
            for entry in entries
        ]
    return bool(found) and all(found)


def bytes_below(folder: str) -> int:
    return sum(
        os.lstat(os.path.join(above, name)).st_size
        for above, _, names in os.walk(folder)
        for name in names
    )


def refuse_inner(path: str, members: Iterable[Member]) -> None:
    """Refuse an archive that holds nothing but archives. Raises ArchiveFault."""
    names = [member.path for member in members]
    inner = inner_archives(names)
    if inner and all(inner_archives([name]) or _is_beside(name) for name in names):
        raise ArchiveFault(
            f"{path}: holds {inner}, and no files of a mod",
            hint="Unpack it, then describe and take what is inside.",
        )


def _is_beside(name: str) -> bool:
    return name.lower().endswith((".txt", ".md", ".url", ".nfo", ".pdf", ".html"))
