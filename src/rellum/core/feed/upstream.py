"""The upstream of a shelf: archives that a team shares, asked before the original places and filled after.

Each archive lies under its BLAKE3 hash; a small text under its SHA-256 hash says which that is, because cards
may carry either. Whatever comes is hashed before it counts, so that an upstream need not be trusted.
"""

from __future__ import annotations

import os
from contextlib import suppress
from typing import Final, NamedTuple

from blake3 import blake3

from rellum.core.durable import write_durably
from rellum.core.errors import UserError
from rellum.core.feed.addresses import reader_of, store_of
from rellum.core.feed.reading import NotInFeed
from rellum.core.feed.storing import FeedStore
from rellum.core.hashing import Digest

VARIABLE: Final = "RELLUM_UPSTREAM"
_FILE: Final = "upstream"
_KNOWN: Final = "upstream-has"


class NoUpstream(UserError):
    """An upstream cannot be used as it is named."""

    code = "no-upstream"


class Named(NamedTuple):
    """An archive as a card names it, by one hash or both."""

    blake3: str | None
    sha256: str | None


class Upstream:
    """What a team shares. A web server is only read."""

    def __init__(self, address: str, shelf_folder: str) -> None:
        """``shelf_folder``: where it is remembered what the upstream has. Raises FeedFault."""
        self.address = address
        self._store = _writer_of(address)
        self._reader = self._store.reader() if self._store else reader_of(address)
        self._note = os.path.join(shelf_folder, _KNOWN)
        self._known = self._read_known()

    def bring(self, named: Named, target: str) -> Digest | None:
        """Write an archive into a file, if it is here and has its hash; return its BLAKE3 hash.

        Raises FeedUnreachable, OSError.
        """
        digest = named.blake3
        if digest is None and named.sha256:
            with suppress(NotInFeed):
                digest = self._reader.read(_by_sha256(named.sha256), 64).decode("ascii", "replace")
        if not digest:
            return None
        hasher = blake3()
        try:
            with open(target, "wb") as file:
                for piece in self._reader.stream(_by_blake3(digest)):
                    hasher.update(piece)
                    file.write(piece)
        except NotInFeed:
            os.unlink(target)
            return None
        if hasher.hexdigest() != digest:
            os.unlink(target)
            return None
        self._note_known(digest)
        return Digest(digest)

    def fill(self, digest: Digest, sha256: str | None, file: str) -> bool:
        """Put an archive there, unless it is there; return whether it was put. Raises FeedFault, OSError."""
        if self._store is None or digest in self._known:
            return False
        self._store.put_file(_by_blake3(digest), file)
        if sha256:
            self._store.put(_by_sha256(sha256), digest.encode("ascii"))
        self._note_known(digest)
        return True

    def _read_known(self) -> set[str]:
        try:
            with open(self._note, encoding="utf-8") as file:
                address, *known = file.read().splitlines()
        except (OSError, ValueError):
            return set()
        return set(known) if address == self.address else set()

    def _note_known(self, digest: str) -> None:
        if digest not in self._known:
            self._known.add(digest)
            text = "\n".join([self.address, *sorted(self._known)])
            write_durably(self._note, text.encode("utf-8", "surrogateescape"))


def _by_blake3(digest: str) -> str:
    return f"archives/{digest[:2]}/{digest}"


def _by_sha256(sha256: str) -> str:
    return f"by-sha256/{sha256[:2]}/{sha256}"


def _writer_of(address: str) -> FeedStore | None:
    """Return what can be written to; None for a web server. Raises NoUpstream, FeedFault."""
    if address.startswith(("http://", "https://")):
        return None
    if "://" not in address and not os.path.isdir(address):
        raise NoUpstream(f"{address} is no folder", hint="Make it, or connect its disk.")
    return store_of(address)


def upstream_of(shelf_folder: str) -> Upstream | None:
    """Return the upstream of a shelf, if it has one. Raises NoUpstream, FeedFault."""
    address = address_of(shelf_folder)
    return Upstream(address, shelf_folder) if address else None


def address_of(shelf_folder: str) -> str:
    """Return the address of a shelf's upstream; empty where it has none."""
    if address := os.environ.get(VARIABLE):
        return address
    try:
        with open(os.path.join(shelf_folder, _FILE), encoding="utf-8") as file:
            return file.read().strip()
    except OSError:
        return ""


def set_address(shelf_folder: str, address: str) -> None:
    """Give a shelf an upstream, or none. Raises NoUpstream, FeedFault, OSError."""
    if address and "://" not in address:
        address = os.path.abspath(address)
    if address:
        _writer_of(address)
    os.makedirs(shelf_folder, exist_ok=True)
    write_durably(
        os.path.join(shelf_folder, _FILE), f"{address}\n".encode("utf-8", "surrogateescape")
    )
