"""What a player believes of a feed: metadata verified by The Update Framework's own client, and kept.

What was verified once is remembered, so that a server can never show something older. The client works in a
folder of its own; what it kept is copied back without its link, which not every file system can hold.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any, Final, NamedTuple

from rellum.core.feed.feed_index import MOST_INDEX_BYTES, FeedFault, unpack_text
from rellum.core.feed.feed_keys import is_same, sayable_root
from rellum.core.feed.metadata import VersionEntry, metadata_name, read_entries
from rellum.core.feed.reading import FeedReader, FeedUnreachable, NotInFeed

_BASE: Final = "feed:///"
_ROOT: Final = metadata_name("root", 1)
_MOST_ROOT_BYTES: Final = 64 << 10
_MOST_TARGETS_BYTES: Final = 512 << 10
_MOST_ROTATIONS: Final = 32


class NotTrusted(FeedFault):
    """A feed does not prove that it is the curator's newest word."""

    code = "feed-not-trusted"


class Believed(NamedTuple):
    """The versions that a feed has, as its curator signed them, and the fingerprint of the first root."""

    fingerprint: str
    versions: dict[int, VersionEntry]

    @property
    def newest(self) -> VersionEntry:
        """The newest version."""
        return self.versions[max(self.versions)]


Trust = Callable[[str], bool]
"""Asked once for each feed: whether this fingerprint is the one that its curator told."""


def believe(reader: FeedReader, folder: str, trust: Trust) -> Believed:
    """Return what a feed has, verified; what is verified is kept in ``folder``.

    Raises NotTrusted, NotInFeed, FeedUnreachable, FeedFault, OSError.
    """
    os.makedirs(folder, exist_ok=True)
    first = os.path.join(folder, "first-root.json")
    if os.path.exists(first):
        with open(first, "rb") as file:
            root = file.read()
    else:
        root = reader.read(_ROOT, _MOST_ROOT_BYTES)
        if not trust(sayable_root(root)):
            raise NotTrusted(
                f"the feed's fingerprint is {sayable_root(root)}, and nobody said that this is right",
                hint="Ask its curator for it, then: rellum follow ADDRESS --trust FINGERPRINT",
            )
    with tempfile.TemporaryDirectory(prefix="rellum-") as work:
        kept = os.path.join(folder, "metadata")
        if os.path.isdir(kept):
            shutil.copytree(kept, work, dirs_exist_ok=True)
        try:
            targets = _refreshed(reader, work, root)
        finally:
            _keep(work, kept)
    if not os.path.exists(first):
        with open(first, "wb") as file:
            file.write(root)
    entries = read_entries(targets)
    if not entries:
        raise FeedFault("the feed has no version yet")
    return Believed(sayable_root(root), entries)


def trusting(said: str) -> Trust:
    """Return the trust in a fingerprint that somebody was told."""
    return lambda found: is_same(said, found)


def read_index_text(reader: FeedReader, entry: VersionEntry) -> bytes:
    """Return the text of a version's index, whole and verified. Raises what reading can raise."""
    packed = reader.read(entry.file, entry.size, size=entry.size)
    if hashlib.sha256(packed).hexdigest() != entry.sha256:
        raise NotTrusted(f"the feed's {entry.file} is not what its curator signed")
    return verified_text(unpack_text(packed, most=MOST_INDEX_BYTES), entry)


def verified_text(text: bytes, entry: VersionEntry) -> bytes:
    """Return an index's text, if it is what was signed. Raises NotTrusted."""
    if hashlib.sha256(text).hexdigest() != entry.text_sha256:
        raise NotTrusted(
            f"the feed's index of version {entry.version} is not what its curator signed"
        )
    return text


def _refreshed(reader: FeedReader, work: str, root: bytes) -> bytes:
    """Run the client; return the targets metadata that it verified."""
    from tuf.ngclient import Updater, UpdaterConfig

    config = UpdaterConfig(
        max_root_rotations=_MOST_ROTATIONS,
        root_max_length=_MOST_ROOT_BYTES,
        targets_max_length=_MOST_TARGETS_BYTES,
        snapshot_max_length=_MOST_ROOT_BYTES,
    )
    with _in_plain_words():
        client = Updater(
            work, f"{_BASE}metadata/", fetcher=_fetcher(reader), config=config, bootstrap=root
        )
        client.refresh()
    with open(os.path.join(work, "targets.json"), "rb") as file:
        return file.read()


def _fetcher(reader: FeedReader) -> Any:
    from tuf.api.exceptions import DownloadHTTPError
    from tuf.ngclient.fetcher import FetcherInterface

    class Fetcher(FetcherInterface):
        """Lets the client read by our reader, with its patience and its limits."""

        def _fetch(self, url: str) -> Iterator[bytes]:
            pieces = reader.stream(url.removeprefix(_BASE))
            try:
                first = next(pieces, b"")
            except NotInFeed as error:
                raise DownloadHTTPError(str(error), 404) from error
            yield first
            yield from pieces

    return Fetcher()


@contextmanager
def _in_plain_words() -> Iterator[None]:
    """Turn what the client raises into words for people."""
    from tuf.api import exceptions
    from tuf.api.serialization import DeserializationError

    try:
        yield
    except exceptions.ExpiredMetadataError as error:
        raise NotTrusted(
            f"the feed's word has expired ({error})",
            hint="The server holds back what is new, or the curator did not renew it with "
            "'rellum publish --renew'. What is installed stays as it is.",
        ) from error
    except exceptions.BadVersionNumberError as error:
        raise NotTrusted(
            f"the feed shows something older than it showed before, or mixes versions ({error})",
            hint="Try another server of this feed, or ask its curator. What is installed stays as it is.",
        ) from error
    except exceptions.UnsignedMetadataError as error:
        raise NotTrusted(
            f"the feed is not signed by the keys that you trust ({error})",
            hint="Ask its curator. What is installed stays as it is.",
        ) from error
    except exceptions.LengthOrHashMismatchError as error:
        raise NotTrusted(f"a part of the feed is not what was signed ({error})") from error
    except exceptions.DownloadLengthMismatchError as error:
        raise NotTrusted(f"the feed sends more than it may ({error})") from error
    except exceptions.DownloadHTTPError as error:
        raise NotInFeed(
            f"a part of the feed is not there ({error})",
            hint="It may be just being published: try again.",
        ) from error
    except (exceptions.DownloadError, DeserializationError, exceptions.RepositoryError) as error:
        cause = error.__cause__
        if isinstance(cause, FeedUnreachable | FeedFault):
            raise cause from error
        raise NotTrusted(f"the feed cannot be verified ({error})") from error


def _keep(work: str, kept: str) -> None:
    """Copy back what the client verified: regular files alone."""
    for folder in (".", "root_history"):
        source = os.path.join(work, folder)
        if not os.path.isdir(source):
            continue
        os.makedirs(os.path.join(kept, folder), exist_ok=True)
        for name in sorted(os.listdir(source)):
            path = os.path.join(source, name)
            if name.endswith(".json") and os.path.isfile(path) and not os.path.islink(path):
                with suppress(OSError):
                    shutil.copyfile(path, os.path.join(kept, folder, name))
