"""A feed in an object store that speaks S3: conditional puts keep two curators apart.

Access is by the environment, as everywhere: AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY, AWS_REGION, and
AWS_ENDPOINT for a store of another provider.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import Any, Final

from rellum.core.feed.feed_index import FeedFault
from rellum.core.feed.feed_keys import NoFeedPackages
from rellum.core.feed.reading import FeedReader, FeedUnreachable, NotInFeed
from rellum.core.feed.storing import AlreadyPublished, FeedStore

_PIECE: Final = 8 << 20
_PATIENCE: Final[Any] = {"max_retries": 3, "retry_timeout": timedelta(seconds=20)}


def _opened(address: str) -> Any:
    """Open a store. Raises NoFeedPackages, FeedFault."""
    try:
        from obstore.exceptions import BaseError
        from obstore.store import from_url
    except ImportError as error:
        raise NoFeedPackages(
            "object stores need a package that is not installed: obstore",
            hint="Install it: pip install 'rellum[store]'",
        ) from error
    try:
        return from_url(address, retry_config=_PATIENCE)
    except (BaseError, ValueError) as error:
        raise FeedFault(
            f"{address} cannot be opened: {error}", hint="Write it as s3://BUCKET/FOLDER."
        ) from error


@contextmanager
def _in_plain_words(address: str) -> Iterator[None]:
    from obstore.exceptions import BaseError

    try:
        yield
    except FileNotFoundError as error:
        raise NotInFeed(f"{address} has no such object") from error
    except (BaseError, OSError) as error:
        raise FeedUnreachable(
            f"{address}: {str(error).splitlines()[0][:200]}",
            hint="Are AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY, AWS_REGION and AWS_ENDPOINT right?",
        ) from error


class S3Reader(FeedReader):
    """Reads a feed in an object store."""

    def __init__(self, address: str, opened: Any = None) -> None:
        super().__init__()
        self.address = address
        self._store = opened or _opened(address)
        self.marks: dict[str, str] = {}
        """The marks (ETag) of what was read whole."""

    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        import obstore

        with _in_plain_words(self.address):
            if size is None and not start:
                found = obstore.get(self._store, name)
                self.marks[name] = str(found.meta.get("e_tag") or "")
                for piece in found.stream(min_chunk_size=_PIECE):
                    yield bytes(piece)
                return
            if size is None:
                size = obstore.head(self._store, name)["size"] - start
            for at in range(start, start + size, _PIECE):
                end = min(at + _PIECE, start + size)
                yield bytes(obstore.get_range(self._store, name, start=at, end=end))


class S3Store(FeedStore):
    """A feed in an object store, written to."""

    def __init__(self, address: str) -> None:
        self.address = address.rstrip("/")
        self._store = _opened(self.address)
        self._reader = S3Reader(self.address, self._store)

    def put(self, name: str, content: bytes) -> None:
        import obstore

        with _in_plain_words(self.address):
            obstore.put(self._store, name, content)

    def put_file(self, name: str, file: str) -> None:
        import obstore

        with _in_plain_words(self.address), open(file, "rb") as stream:
            obstore.put(self._store, name, stream)

    def claim(self, name: str, content: bytes) -> None:
        """Write what only one curator may write, by ``If-None-Match: *`` (RFC 9110)."""
        import obstore
        from obstore.exceptions import AlreadyExistsError

        try:
            with _in_plain_words(self.address):
                try:
                    obstore.put(self._store, name, content, mode="create")
                except AlreadyExistsError as error:
                    raise _Taken from error
        except _Taken as error:
            raise _already(f"{self.address}/{name}") from error

    def replace(self, name: str, content: bytes) -> None:
        """Write over what was read before, by ``If-Match``; over what nobody read, whatever is there."""
        import obstore
        from obstore.exceptions import PreconditionError

        mark = self._reader.marks.get(name)
        try:
            with _in_plain_words(self.address):
                try:
                    if mark:
                        obstore.put(self._store, name, content, mode={"e_tag": mark})
                    else:
                        obstore.put(self._store, name, content)
                except PreconditionError as error:
                    raise _Taken from error
        except _Taken as error:
            raise _already(f"{self.address}/{name}") from error

    def reader(self) -> FeedReader:
        return self._reader


class _Taken(Exception):
    """Somebody else wrote this object."""


def _already(what: str) -> AlreadyPublished:
    return AlreadyPublished(
        f"{what} was written by somebody else in the meantime",
        hint="Publish again: yours becomes the next version. If theirs was broken off: --take-over",
    )
