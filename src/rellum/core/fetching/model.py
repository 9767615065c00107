"""What is fetched, how, and how far it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal
from urllib.parse import urlsplit

State = Literal["queued", "fetching", "waiting", "checking", "fetched", "failed"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """A file to fetch: at least one hash, and addresses to be tried in order. ``size`` is in bytes.

    ``folder`` is where relative ``file:`` addresses begin; ``sources`` are the folders in which what they
    mean may lie.
    """

    name: str
    size: int | None
    sha256: str | None
    blake3: str | None
    urls: tuple[str, ...]
    folder: str = "."
    sources: tuple[str, ...] = ()

    @property
    def key(self) -> str:
        """What its unfinished download is kept under: the same file always has the same."""
        return (self.blake3 or self.sha256 or self.name)[:40]


@dataclass(frozen=True, slots=True, kw_only=True)
class Patience:
    """How long to wait for what. All times are in seconds.

    A transfer that brings fewer than ``least_bytes`` in ``stall`` is cut and resumed. After ``tries``
    failures in a row that brought nothing new an address is given up. The waits between tries grow
    twofold from ``first_wait`` to ``longest_wait``. A site that asks for more than ``most_asked`` is
    left for the next. Of a file whose size nobody tells at most ``most_bytes`` are taken.
    """

    connect: float = 15
    stall: float = 20
    least_bytes: int = 1024
    most_bytes: int = 64 << 30
    tries: int = 5
    first_wait: float = 1
    longest_wait: float = 60
    most_asked: float = 900
    at_once: int = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class FileProgress:
    """How far one file is. ``total`` is None where nobody told; ``words`` say what goes on."""

    name: str
    state: State
    done: int
    total: int | None
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class FetchProgress:
    """How far all files are, in the order in which they are wanted."""

    files: tuple[FileProgress, ...]


FetchListener = Callable[[FetchProgress], None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What became of one file: where it lies now, or None; and why addresses were given up.

    ``blake3`` and ``others`` (by name) are the hashes of what came.
    """

    wanted: Wanted
    path: str | None
    reasons: tuple[str, ...]
    blake3: str = ""
    others: tuple[tuple[str, str], ...] = ()


def host_of(url: str) -> str:
    """Return the host of an address, for which one transfer at a time is made; empty for ``file:``."""
    parts = urlsplit(url)
    return "" if parts.scheme == "file" else parts.netloc.rpartition("@")[2].lower()


def shown_url(url: str) -> str:
    """Return an address as messages show it: without a user's name and password, and without its query."""
    parts = urlsplit(url)
    netloc = parts.netloc.rpartition("@")[2]
    return f"{parts.scheme}:{'//' if netloc or parts.scheme == 'file' else ''}{netloc}{parts.path}"
