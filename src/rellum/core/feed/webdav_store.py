"""A feed on a web server that takes files by WebDAV (RFC 4918): ``dav://`` without, ``davs://`` with TLS.

Name and password are read from ``~/.netrc``, or the file that NETRC names, as other programs do.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import IO, Final
from urllib.parse import quote, urlsplit

from rellum.core.feed.reading import FeedReader, FeedUnreachable, HttpReader
from rellum.core.feed.storing import AlreadyPublished, FeedStore

SCHEMES: Final = {"dav": "http", "davs": "https"}

_HAS_IT_ALREADY: Final = 412
_NO_FOLDER_FOR_IT: Final = (404, 409)
_MADE: Final = (200, 201, 204)
_FOLDER_STANDS: Final = (201, 301, 405)
_NOT_LET_IN: Final = (401, 403)


def web_address(address: str) -> str:
    """Return where plain HTTP reads what WebDAV writes at an address."""
    scheme = urlsplit(address).scheme
    return f"{SCHEMES[scheme]}{address.removeprefix(scheme)}".rstrip("/")


class WebDavStore(FeedStore):
    """A feed on a web server, written to by PUT and MKCOL."""

    def __init__(self, address: str, patience: float = 60) -> None:
        """``patience``: seconds that the server may be silent."""
        self.address = address.rstrip("/")
        self._reader = HttpReader(web_address(address))
        self._patience = patience

    def put(self, name: str, content: bytes) -> None:
        self._put(name, content, {})

    def put_file(self, name: str, file: str) -> None:
        with open(file, "rb") as stream:
            self._put(name, stream, {})

    def claim(self, name: str, content: bytes) -> None:
        """Write what only one curator may write, by ``If-None-Match: *`` (RFC 9110)."""
        self._put(name, content, {"If-None-Match": "*"})

    def replace(self, name: str, content: bytes) -> None:
        """Write over what was read before, by ``If-Match``; over what nobody read, whatever is there."""
        mark = self._reader.marks.get(name, "")
        self._put(name, content, {"If-Match": mark} if mark.startswith('"') else {})

    def reader(self) -> FeedReader:
        return self._reader

    def _put(self, name: str, content: bytes | IO[bytes], conditions: Mapping[str, str]) -> None:
        status = self._ask("PUT", name, content, conditions)
        if status in _NO_FOLDER_FOR_IT:
            self._make_folders(name)
            if not isinstance(content, bytes):
                content.seek(0)
            status = self._ask("PUT", name, content, conditions)
        if status == _HAS_IT_ALREADY:
            raise AlreadyPublished(
                f"{self.address}/{name} was written by somebody else in the meantime",
                hint="Publish again: yours becomes the next version. If theirs was broken off: --take-over",
            )
        if status not in _MADE:
            raise self._refused(status)

    def _make_folders(self, name: str) -> None:
        """Make the folders above an object, and those of the feed itself, from the outermost on."""
        root = urlsplit(self._reader.url)
        within = [each for each in root.path.split("/") if each]
        parts = [*within, *name.split("/")[:-1]]
        for count in range(1, len(parts) + 1):
            path = "/".join(parts[:count])
            status = self._send("MKCOL", f"{root.scheme}://{root.netloc}/{path}/", None, {})
            # A folder further out may be one that nobody may make, and stand all the same.
            if status not in _FOLDER_STANDS and count > len(within):
                raise self._refused(status)

    def _ask(
        self, method: str, name: str, content: bytes | IO[bytes], headers: Mapping[str, str]
    ) -> int:
        return self._send(method, f"{self._reader.url}/{quote(name)}", content, headers)

    def _send(
        self, method: str, url: str, content: bytes | IO[bytes] | None, headers: Mapping[str, str]
    ) -> int:
        """Send a request and return the answer's status. Raises FeedUnreachable."""
        import requests

        try:
            with self._reader.opened().request(
                method,
                url,
                data=content,
                headers=headers,
                timeout=self._patience,
                allow_redirects=False,
            ) as answer:
                return int(answer.status_code)
        except requests.RequestException as error:
            raise FeedUnreachable(
                f"{self.address} cannot be reached, or broke off",
                hint="Publish again later; players still have the version before.",
            ) from error

    def _refused(self, status: int) -> FeedUnreachable:
        hint = "Does this server take files by WebDAV there?"
        if status in _NOT_LET_IN:
            hint = "Write name and password for this server into ~/.netrc."
        return FeedUnreachable(f"{self.address}: the server answered {status}", hint=hint)
