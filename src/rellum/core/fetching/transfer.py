"""One try to bring a file, or the rest of it, from one address.

HTTP as in RFC 9110: a range from where the bytes end, ``If-Range`` with the mark of the version that
they are of, so that a file that changed meanwhile comes whole.
"""

from __future__ import annotations

import email.utils
import os
import re
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Final, NamedTuple
from urllib.parse import unquote, urljoin, urlsplit

from rellum.core.archives.forms import A_PAGE, HEAD_BYTES, what_instead
from rellum.core.fetching.model import Patience, Wanted, shown_url
from rellum.core.fetching.partial import Partial
from rellum.core.hashing import open_regular
from rellum.core.values.paths import is_inside

PIECE_BYTES: Final = 1 << 19
_MOST_REDIRECTIONS: Final = 10
_NUMBER: Final = re.compile(r"[0-9]{1,18}")
_PASSING: Final = frozenset({408, 425, 429, 500, 502, 503, 504})
"""Answers that may be other a moment later."""


class Interrupted(Exception):
    """The work is to stop; what has come is kept."""


class AddressFails(Exception):
    """This address will not give the file."""


@dataclass(frozen=True, slots=True)
class TryAgain(Exception):
    """It may be there a moment later. ``asked`` are the seconds that the site asked to wait, if any."""

    reason: str
    asked: float | None = None

    def __str__(self) -> str:
        return self.reason


Arrived = Callable[[int, "int | None"], None]
"""Told how many bytes are here, and how many there will be (None: not known). May raise Interrupted."""


class PageAnswer(NamedTuple):
    """What a site said to a request for a page; ``mark`` and ``modified`` are its ETag and Last-Modified."""

    content: bytes
    is_unchanged: bool
    mark: str
    modified: str


class Transfer:
    """Brings files by HTTP(S), through the proxies of the environment, and from this machine."""

    def __init__(self, patience: Patience) -> None:
        self._patience = patience
        self._session: Any = None

    def bring(self, wanted: Wanted, url: str, partial: Partial, arrived: Arrived) -> None:
        """Bring what lacks. Raises AddressFails, TryAgain, OSError of this machine's disk."""
        if url.startswith("file:"):
            self._copy(wanted, url, partial, arrived)
        else:
            self._download(wanted, url, partial, arrived)

    def _copy(self, wanted: Wanted, url: str, partial: Partial, arrived: Arrived) -> None:
        path = local_path(url, wanted.folder)
        if not any(is_inside(path, each) for each in wanted.sources):
            raise AddressFails(
                f"{path} lies neither in a catalog nor in a source ('rellum decide source FOLDER')"
            )
        try:
            descriptor = open_regular(path)
        except OSError as error:
            raise AddressFails(f"{path}: {error.strerror}") from error
        with open(descriptor, "rb", buffering=0) as file:
            partial.start_over()
            partial.begin_from(url, "")
            total = os.fstat(file.fileno()).st_size
            while piece := file.read(PIECE_BYTES):
                partial.add(piece)
                arrived(partial.size, total)

    def _download(self, wanted: Wanted, url: str, partial: Partial, arrived: Arrived) -> None:
        import requests
        import urllib3

        try:
            with self._get(url, partial) as response:
                total = self._prepare(response, url, partial) or wanted.size
                arrived(partial.size, total)
                for piece in self._pieces(response):
                    if not partial.size:
                        _refuse_a_page(piece, response)
                    most = self._patience.most_bytes if wanted.size is None else wanted.size
                    if partial.size + len(piece) > most:
                        raise AddressFails(f"it sends more than the expected {most:,} bytes")
                    partial.add(piece)
                    arrived(partial.size, total)
        except (requests.RequestException, urllib3.exceptions.HTTPError) as error:
            raise TryAgain(_words(error)) from error
        if total is not None and partial.size < total:
            raise TryAgain(f"the transfer ended after {partial.size:,} of {total:,} bytes")

    def page(self, url: str, headers: dict[str, str], most_bytes: int) -> PageAnswer:
        """Bring a page whole, unless the headers say that it is known. Raises AddressFails, TryAgain."""
        import requests
        import urllib3

        try:
            with self._open(url, headers) as response:
                self._refuse_status(response, (200, 304))
                content = b""
                for piece in self._pieces(response) if response.status_code == 200 else ():
                    content += piece
                    if len(content) > most_bytes:
                        raise AddressFails(f"it sends more than {most_bytes:,} bytes")
                return PageAnswer(
                    content=content,
                    is_unchanged=response.status_code == 304,
                    mark=response.headers.get("ETag", ""),
                    modified=response.headers.get("Last-Modified", ""),
                )
        except (requests.RequestException, urllib3.exceptions.HTTPError) as error:
            raise TryAgain(_words(error)) from error

    def _get(self, url: str, partial: Partial) -> Any:
        headers: dict[str, str] = {}
        if partial.size:
            headers["Range"] = f"bytes={partial.size}-"
            if partial.sources[-1:] == [url] and partial.mark:
                headers["If-Range"] = partial.mark
        return self._open(url, headers)

    def _open(self, url: str, headers: dict[str, str]) -> Any:
        """Return the answer to a request. Raises AddressFails, TryAgain, and what the library raises."""
        import requests

        from rellum import __version__

        if self._session is None:
            self._session = requests.Session()
            # The library would read the body of a redirection, however long it is.
            self._session.get_redirect_target = lambda _: None
            self._session.headers.update(
                {"User-Agent": f"rellum/{__version__}", "Accept-Encoding": "identity"}
            )
        try:
            return self._follow(url, headers)
        except (requests.exceptions.InvalidURL, requests.exceptions.InvalidSchema) as error:
            raise AddressFails(_words(error)) from error
        except ValueError as error:  # brackets that are no address of version 6, and the like
            raise AddressFails(f"the site redirects to an invalid address: {error}") from error

    def _follow(self, url: str, headers: dict[str, str]) -> Any:
        """Return the answer at the end of redirections; the bodies of these are not read."""
        for _ in range(_MOST_REDIRECTIONS):
            response = self._head_of(url, headers)
            if not response.is_redirect:
                return response
            response.close()
            url = urljoin(url, response.headers["Location"])
            if urlsplit(url).scheme not in ("http", "https"):
                raise AddressFails(
                    f"the site redirects to {shown_url(url)}, which is not a web address"
                )
        raise AddressFails(f"the site redirects more than {_MOST_REDIRECTIONS} times")

    def _head_of(self, url: str, headers: dict[str, str]) -> Any:
        """Return an answer whose head has come; the whole head within a time, however slowly it drips.

        Raises TryAgain, and what the library raises.
        """
        patience = self._patience
        found: list[Any] = []

        def ask() -> None:
            try:
                found.append(
                    self._session.get(
                        url,
                        headers=headers,
                        stream=True,
                        timeout=(patience.connect, patience.stall),
                        allow_redirects=False,
                    )
                )
            except Exception as error:
                found.append(error)

        asking = threading.Thread(
            target=ask, daemon=True
        )  # it may never end: it is left behind then
        asking.start()
        asking.join(patience.connect + patience.stall)
        if not found:
            self._session = None
            raise TryAgain("the site never finishes its response headers")
        if isinstance(found[0], Exception):
            raise found[0]
        return found[0]

    def _prepare(self, response: Any, url: str, partial: Partial) -> int | None:
        """Look at an answer's head; return how many bytes the file has in all, if it tells."""
        status = response.status_code
        if status == 416:
            partial.start_over()
            raise TryAgain("the site does not have that range; starting again")
        self._refuse_status(response, (200, 206))
        if status == 206:
            start, total = content_range(response.headers.get("Content-Range", ""))
            if start != partial.size:
                partial.start_over()
                raise TryAgain("the site sent a different range; starting again")
        else:
            # The whole file: the site has no ranges, or the file has changed there.
            partial.start_over()
            length = response.headers.get("Content-Length", "")
            total = int(length) if _NUMBER.fullmatch(length) else None
        partial.begin_from(url, _mark(response.headers))
        return total

    def _refuse_status(self, response: Any, good: tuple[int, ...]) -> None:
        """Refuse an answer with another status. Raises TryAgain, AddressFails."""
        status = response.status_code
        if status in _PASSING:
            asked = retry_after(response.headers.get("Retry-After", ""), time.time())
            raise TryAgain(f"the site answered {status} {response.reason or ''}".rstrip(), asked)
        if status not in good:
            raise AddressFails(f"the site answered {status} {response.reason or ''}".rstrip())

    def _pieces(self, response: Any) -> Iterator[bytes]:
        """Yield the bytes as they come. Raises TryAgain for a transfer that hardly moves."""
        patience = self._patience
        since, count = time.monotonic(), 0
        with _Watch(response, patience.stall) as watch:
            while piece := response.raw.read1(PIECE_BYTES):
                watch.useful()
                yield piece
                count += len(piece)
                now = time.monotonic()
                if now - since >= patience.stall:
                    if count < patience.least_bytes:
                        raise TryAgain(f"stalled: {count} bytes in {now - since:.0f} s")
                    since, count = now, 0


class _Watch:
    """Cuts a connection over which much may come, but for a time no byte of the file.

    What a library reads to itself (heads and tails of chunks) keeps it from ever giving up.
    """

    def __init__(self, response: Any, stall: float) -> None:
        self._socket = getattr(response.raw.connection, "sock", None)
        self._stall = stall
        self._last = time.monotonic()
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)

    def __enter__(self) -> _Watch:
        self._thread.start()
        return self

    def __exit__(self, *error: object) -> None:
        self._ended.set()

    def useful(self) -> None:
        """Say that a byte of the file came."""
        self._last = time.monotonic()

    def _watch(self) -> None:
        while not self._ended.wait(min(1.0, self._stall / 4)):
            if time.monotonic() - self._last > self._stall * 1.5 and self._socket is not None:
                with suppress(OSError):
                    self._socket.shutdown(socket.SHUT_RDWR)
                return


def local_path(url: str, folder: str) -> str:
    """Return the path that a ``file:`` address means (RFC 8089); relative ones begin at ``folder``."""
    from urllib.request import url2pathname

    parts = urlsplit(url)
    path = url2pathname(parts.path) if parts.path.startswith("/") else unquote(parts.path)
    return os.path.normpath(os.path.join(folder, path))


def retry_after(text: str, now: float) -> float | None:
    """Return the seconds that ``Retry-After`` asks for (RFC 9110, 10.2.3); None where it does not."""
    if _NUMBER.fullmatch(text.strip()):
        return float(text)
    try:
        moment = email.utils.parsedate_to_datetime(text)
    except (ValueError, OverflowError):
        return None
    return max(0.0, moment.timestamp() - now)


def content_range(text: str) -> tuple[int, int | None]:
    """Return where a range begins and how many bytes there are in all; -1 for what cannot be read."""
    found = re.match(r"bytes (\d+)-\d+/(\d+|\*)$", text.strip())
    if not found:
        return -1, None
    return int(found[1]), None if found[2] == "*" else int(found[2])


def _mark(headers: Any) -> str:
    """Return what ``If-Range`` may be asked with: a strong entity tag, else the date of change."""
    tag = headers.get("ETag", "")
    is_strong = tag and not tag.startswith("W/")
    return str(tag if is_strong else headers.get("Last-Modified", ""))


def _refuse_a_page(piece: bytes, response: Any) -> None:
    said = what_instead(piece[:HEAD_BYTES])
    if said.startswith(A_PAGE):
        said += ": the site probably requires a sign-in"
    if said:
        raise AddressFails(said)
    if response.headers.get("Content-Type", "").startswith("text/html"):
        raise AddressFails("is a web page, not an archive")


def _words(error: Exception) -> str:
    """Return what went wrong on the way, without the libraries' own wrapping."""
    text = str(error)
    for words, plain in (
        ("Read timed out", "stalled: no more data arrived"),
        ("ConnectTimeout", "the site does not answer"),
        ("Connection refused", "the site refuses the connection"),
        ("Name or service not known", "there is no such host"),
        ("Failed to resolve", "there is no such host"),
        ("getaddrinfo failed", "there is no such host"),
        ("IncompleteRead", "the transfer was cut"),
        ("Connection broken", "the transfer was cut"),
        ("Connection aborted", "the transfer was cut"),
        ("reset by peer", "the transfer was cut"),
        ("certificate verify failed", "the site's certificate is not trusted"),
    ):
        if words in text:
            return plain
    return text[:160]
