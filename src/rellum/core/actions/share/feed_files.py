"""What of a feed lies in a player's pack: its texts in the folder ``feed``; and what the shelf gets."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, suppress
from typing import Final

from rellum.core.actions.share.feed_content import ARCHIVES
from rellum.core.change.request import Request
from rellum.core.durable import write_durably
from rellum.core.feed.bringing import Found, KnownVersion, bring_contents
from rellum.core.feed.feed_index import FeedFault, FeedFile, Index, read_index
from rellum.core.feed.reading import FeedReader
from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.home import PackHome
from rellum.core.pack.pending_follow import FOLDER, PARTS
from rellum.core.process_lock import hold
from rellum.core.shelf.store import Shelf

_WORK: Final = "following-"
_MOST_TEXT_BYTES: Final = 64 << 20


def known_version(folder: str) -> tuple[KnownVersion, Index] | None:
    """Return the version that is here, with its index."""
    with suppress(OSError, ValueError, FeedFault):
        [name] = [each for each in os.listdir(folder) if each.startswith("index-")]
        version = int(name.removeprefix("index-").removesuffix(".json"))
        with open(os.path.join(folder, name), "rb") as file:
            text = file.read()
        return KnownVersion(version, text), read_index(text, version)
    return None


def remember(folder: str, version: int, text: bytes) -> None:
    for name in os.listdir(folder):
        if name.startswith("index-"):
            os.unlink(os.path.join(folder, name))
    write_durably(os.path.join(folder, f"index-{version}.json"), text)


def refuse_strange(index: Index) -> None:
    """Refuse files that no feed has. Raises FeedFault."""
    for each in index.files:
        part = each.path.partition("/")[0]
        if part not in (*PARTS, ARCHIVES):
            raise FeedFault(f"the feed has a file that belongs nowhere: {each.path}")
        if part != ARCHIVES and each.size > _MOST_TEXT_BYTES:
            raise FeedFault(f"the feed's {each.path} has {each.size:,} bytes: it is no text")
        if part == ARCHIVES and each.path.split("/")[1] != each.digest:
            raise FeedFault(f"the feed's {each.path} is called after another content")


@contextmanager
def work_folder(shelf_folder: str) -> Iterator[str]:
    """Give a folder on the shelf's disk: what is brought into it can be moved onto the shelf."""
    os.makedirs(shelf_folder, exist_ok=True)
    for name in os.listdir(shelf_folder):
        if name.startswith(_WORK):  # one that was killed; one that lives holds its folder
            left = os.path.join(shelf_folder, name)
            with suppress(FeedFault, OSError), _held(left):
                shutil.rmtree(left)
    with tempfile.TemporaryDirectory(prefix=_WORK, dir=shelf_folder) as work, _held(work):
        yield work


def _held(folder: str) -> AbstractContextManager[None]:
    return hold(os.path.join(folder, "lock"), folder, FeedFault)


class Bringing:
    """What of a version is not here: its texts, and archives that the shelf lacks."""

    def __init__(
        self,
        reader: FeedReader,
        found: Found,
        known: tuple[KnownVersion, Index] | None,
        folder: str,
        request: Request,
    ) -> None:
        self._reader, self._found, self._known, self._request = reader, found, known, request
        self._folder = folder
        self.archives: list[str] = []
        """The archives that were brought, each a file with its own name."""

    def bring(self, work: str, *, texts: bool, archives: bool) -> None:
        """Bring texts into ``work``, by their hashes, and archives below it, by their names.

        Raises FeedFault, ShelfFault, and what reading can raise.
        """
        with Shelf(self._request.shelf_folder) as shelf:
            have = self._have(shelf)
            lacking = {each.digest: each for each in self._archives()} if archives else {}
            lacking = {digest: each for digest, each in lacking.items() if not shelf.has(digest)}
            shelf.check_space(sum(each.size for each in lacking.values()))
        wanted_texts = {each.digest for each in self._found.listing.files if not _is_archive(each)}
        wanted_texts = wanted_texts if texts else set()
        known = self._known[1] if self._known else None
        bring_contents(
            self._reader,
            self._found,
            known,
            have,
            lacking.keys() | (wanted_texts - have.keys()),
            lambda digest: os.path.join(work, digest),
            self._request.listen,
        )
        for digest in wanted_texts & have.keys():
            shutil.copyfile(have[digest], os.path.join(work, digest))
        for digest, each in lacking.items():
            target = os.path.join(work, ARCHIVES, digest, each.path.rpartition("/")[2])
            os.makedirs(os.path.dirname(target), exist_ok=True)
            os.replace(os.path.join(work, digest), target)
            self.archives.append(target)

    def _archives(self) -> list[FeedFile]:
        return [each for each in self._found.listing.files if _is_archive(each)]

    def _have(self, shelf: Shelf) -> dict[Digest, str]:
        """Return where contents of the known version lie."""
        files = {
            each.digest: shelf.path_of(each.digest)
            if _is_archive(each)
            else _file(self._folder, each)
            for each in (self._known[1].files if self._known else ())
        }
        here = {digest: file for digest, file in files.items() if os.path.isfile(file)}
        return {
            digest: file
            for digest, file in here.items()
            if file == shelf.path_of(digest) or hash_file(file) == digest
        }


def _is_archive(each: FeedFile) -> bool:
    return each.path.startswith(f"{ARCHIVES}/")


def _file(folder: str, each: FeedFile) -> str:
    return os.path.join(folder, *each.path.split("/"))


def swap_in(home: PackHome, listing: Index, work: str) -> None:
    """Put the new texts in place of the old ones, which ``keep_before`` has made a place for. Raises
    OSError.
    """
    folder = os.path.join(home.folder, FOLDER)
    new, old = os.path.join(folder, "new"), os.path.join(folder, "old")
    shutil.rmtree(new, ignore_errors=True)
    for each in listing.files:
        if not _is_archive(each):
            target = os.path.join(new, *each.path.split("/"))
            os.makedirs(os.path.dirname(target), exist_ok=True)
            shutil.copyfile(os.path.join(work, each.digest), target)
    for part in PARTS:
        with suppress(FileNotFoundError):
            os.rename(os.path.join(folder, part), os.path.join(old, part))
        with suppress(FileNotFoundError):
            os.rename(os.path.join(new, part), os.path.join(folder, part))
    shutil.rmtree(new, ignore_errors=True)
