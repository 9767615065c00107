"""What reads, and what writes, at an address: a folder, one file, a web server, an object store."""

from __future__ import annotations

import os
from urllib.parse import urlsplit

from rellum.core.errors import UserError
from rellum.core.feed.reading import BundleReader, FeedReader, FolderReader, HttpReader, NotInFeed
from rellum.core.feed.storing import FeedStore, FolderStore

_OBJECTS = "s3"
_DAV = ("dav", "davs")
_SFTP = "sftp"
_OF_SERVERS = ("http", "https", *_DAV, _SFTP)


class NotWritable(UserError):
    """An address can be read, but nothing can be written there."""

    code = "not-writable"


class NoServer(UserError):
    """An address names no server."""

    code = "no-server"


def _scheme(address: str) -> str:
    """Return how an address begins; empty for a path. Raises NoServer."""
    if "://" not in address:
        return ""
    parts = urlsplit(address)
    if parts.scheme in _OF_SERVERS and not parts.netloc:
        raise NoServer(
            f"{address} names no server", hint=f"Write it as {parts.scheme}://SERVER/FOLDER."
        )
    return parts.scheme


def reader_of(address: str) -> FeedReader:
    """Return what reads at an address: a URL, a folder, or a file.

    Raises NoServer, NotInFeed, FeedFault, NoFeedPackages.
    """
    scheme = _scheme(address)
    if scheme in ("http", "https"):
        return HttpReader(address)
    if scheme == _OBJECTS:
        from rellum.core.feed.s3_store import S3Reader

        return S3Reader(address.rstrip("/"))
    if scheme in _DAV:
        from rellum.core.feed.webdav_store import web_address

        return HttpReader(web_address(address))
    if scheme == _SFTP:
        from rellum.core.feed.sftp_store import SftpReader

        return SftpReader(address.rstrip("/"))
    path = address.removeprefix("file://")
    if os.path.isdir(path):
        return FolderReader(os.path.abspath(path))
    if os.path.isfile(path):
        return BundleReader(os.path.abspath(path))
    raise NotInFeed(
        f"there is nothing at {address}",
        hint="Give the address that its curator told you, or a folder or file.",
    )


def store_of(address: str) -> FeedStore:
    """Return what writes at an address. Raises NoServer, NotWritable, NoFeedPackages, FeedFault."""
    scheme = _scheme(address)
    if scheme == _OBJECTS:
        from rellum.core.feed.s3_store import S3Store

        return S3Store(address)
    if scheme in _DAV:
        from rellum.core.feed.webdav_store import WebDavStore

        return WebDavStore(address)
    if scheme == _SFTP:
        from rellum.core.feed.sftp_store import SftpStore

        return SftpStore(address)
    if scheme not in ("", "file"):
        raise NotWritable(
            f"{address} cannot be written to",
            hint="Name a folder, which a sync tool may carry further, s3://BUCKET/FOLDER, "
            "davs://HOST/FOLDER, or sftp://HOST/FOLDER.",
        )
    return FolderStore(address.removeprefix("file://"))
