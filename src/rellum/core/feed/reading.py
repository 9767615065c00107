"""Reading a feed's objects: from a folder, from one file, or by HTTP from a server that may be hostile."""

from __future__ import annotations

import os
import time
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator
from typing import Any, Final, NamedTuple
from urllib.parse import quote

from rellum.core.feed.feed_index import FeedFault
from rellum.core.hashing import open_regular

_PIECE: Final = 1 << 18
_TRIES: Final = 3
_MOST_REDIRECTIONS: Final = 5


class NotInFeed(FeedFault):
    """A feed has no object of that name."""

    code = "not-in-feed"


class FeedUnreachable(FeedFault):
    """A feed's server does not answer, answers too slowly, or sends something else."""

    code = "feed-unreachable"


class Range(NamedTuple):
    """A part of an object: where it begins, and its size, in bytes."""

    name: str
    start: int
    size: int


class FeedReader(ABC):
    """Reads objects by name. ``requests`` counts what was asked for, ``received`` the bytes that came.

    Those of them that came by a torrent are counted in ``from_swarm``, too, and were no requests.
    """

    def __init__(self) -> None:
        self.requests = 0
        self.received = 0
        self.from_swarm = 0

    def read(self, name: str, most: int, start: int = 0, size: int | None = None) -> bytes:
        """Return an object, or ``size`` bytes of it from ``start``; what is longer than ``most`` is refused.

        Raises NotInFeed, FeedUnreachable, FeedFault.
        """
        found = bytearray()
        for piece in self.stream(name, start, size):
            found += piece
            if len(found) > most:
                raise FeedFault(
                    f"the feed's {name} is longer than the {most:,} bytes that it may have"
                )
        if size is not None and len(found) != size:
            raise FeedFault(
                f"the feed's {name} ends after {start + len(found):,} bytes: it was cut off"
            )
        return bytes(found)

    def stream(self, name: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        """Yield the bytes of an object, or of a part of it. Raises NotInFeed, FeedUnreachable."""
        self.requests += 1
        for piece in self._stream(name, start, size):
            self.received += len(piece)
            yield piece

    def will_read(self, ranges: Collection[Range]) -> None:  # noqa: B027 (most readers need not know)
        """Say what will be read soon, so that it can come in any order. Raises FeedFault."""

    @abstractmethod
    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]: ...


def _up_to(file: Any, size: int | None) -> Iterator[bytes]:
    left = size
    while left is None or left:
        piece = file.read(_PIECE if left is None else min(_PIECE, left))
        if not piece:
            return
        left = None if left is None else left - len(piece)
        yield piece


class FolderReader(FeedReader):
    """Reads a feed that lies in a folder."""

    def __init__(self, folder: str) -> None:
        super().__init__()
        self.folder = folder

    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        try:
            descriptor = open_regular(os.path.join(self.folder, *name.split("/")))
        except OSError as error:
            raise NotInFeed(
                f"{self.folder} has no {name}", hint="Is this the feed's folder?"
            ) from error
        with open(descriptor, "rb") as file:
            file.seek(start)
            yield from _up_to(file, size)


class BundleReader(FeedReader):
    """Reads a feed that is one file: a zip whose members are stored."""

    def __init__(self, path: str) -> None:
        super().__init__()
        self.path = path
        try:
            self._zip = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile) as error:
            raise FeedFault(
                f"{path} is no feed in one file: {error}", hint="Get it again."
            ) from error

    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        try:
            member = self._zip.open(name)
        except KeyError as error:
            raise NotInFeed(f"{self.path} has no {name}") from error
        try:
            with member:
                member.seek(start)
                yield from _up_to(member, size)
        except (zipfile.BadZipFile, OSError) as error:
            raise FeedFault(f"{self.path} is damaged: {error}", hint="Get it again.") from error


class HttpReader(FeedReader):
    """Reads a feed from a web server by plain GET requests and ranges (RFC 9110).

    A server that sends less than ``least_rate`` bytes a second is given up after ``patience`` seconds.
    """

    def __init__(self, url: str, patience: float = 20, least_rate: int = 1000) -> None:
        super().__init__()
        self.url = url.rstrip("/")
        self._patience, self._least_rate = patience, least_rate
        self._session: Any = None
        self.marks: dict[str, str] = {}
        """The marks (ETag) of what was read whole."""

    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        """Yield the bytes; what breaks off is asked for again from where it ended."""
        came = 0
        for attempt in range(_TRIES):
            try:
                left = None if size is None else size - came
                for piece in self._try(name, start + came, left):
                    came += len(piece)
                    yield piece
                return
            except FeedUnreachable:
                if attempt + 1 == _TRIES:
                    raise
                time.sleep(0.2 * 3**attempt)

    def _try(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        import requests
        import urllib3

        headers = {"Accept-Encoding": "identity"}
        is_part = start > 0 or size is not None
        if is_part:
            headers["Range"] = f"bytes={start}-{'' if size is None else start + size - 1}"
        began = time.monotonic()
        try:
            with self.opened().get(
                f"{self.url}/{quote(name)}", headers=headers, stream=True, timeout=self._patience
            ) as answer:
                if answer.status_code in (403, 404, 410):
                    raise NotInFeed(f"{self.url} has no {name}", hint="Is this the feed's address?")
                if answer.status_code not in (200, 206):
                    raise FeedUnreachable(
                        f"{self.url}: the server answered {answer.status_code}",
                        hint="Write name and password for this server into ~/.netrc."
                        if answer.status_code == 401
                        else "Try again later; the installed pack stays as it is.",
                    )
                if not is_part:
                    self.marks[name] = answer.headers.get("ETag", "")
                skip = start if answer.status_code == 200 else 0  # it knows no ranges
                left = size
                came = 0
                for piece in answer.iter_content(_PIECE):
                    came += len(piece)
                    seconds = time.monotonic() - began
                    if seconds > self._patience and came / seconds < self._least_rate:
                        raise FeedUnreachable(
                            f"{self.url} sends {came:,} bytes in {seconds:.0f} seconds"
                        )
                    if skip:
                        piece, skip = piece[skip:], max(0, skip - len(piece))
                    if left is not None:
                        piece = piece[:left]
                        left -= len(piece)
                    if piece:
                        yield piece
                    if left == 0:
                        return
        except (requests.RequestException, urllib3.exceptions.HTTPError) as error:
            raise FeedUnreachable(
                f"{self.url}: {_words(error)}",
                hint="Try again later; the installed pack stays as it is.",
            ) from error

    def opened(self) -> Any:
        """Return the session in which connections are kept."""
        if self._session is None:
            import requests

            from rellum import __version__

            self._session = requests.Session()
            self._session.max_redirects = _MOST_REDIRECTIONS
            self._session.headers["User-Agent"] = f"rellum/{__version__}"
        return self._session


def _words(error: Exception) -> str:
    """Return what went wrong, without the library's own account of it."""
    import requests

    if isinstance(error, requests.TooManyRedirects):
        return "it redirects in a circle"
    if isinstance(error, requests.Timeout):
        return "it does not answer"
    if isinstance(error, requests.ConnectionError):
        return "it cannot be reached, or broke off"
    return "it sends something that is no answer"
