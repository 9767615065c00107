"""A feed on a server that takes files by SFTP (version 3 of its draft, as OpenSSH has it): ``sftp://``.

Keys come from the user's agent and ``~/.ssh``, names and ports from ``~/.ssh/config``, a password from
``~/.netrc``. The server must be one that is known (``~/.ssh/known_hosts``): nobody is asked.
"""

from __future__ import annotations

import errno
import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any, Final, NamedTuple
from urllib.parse import unquote, urlsplit

from rellum.core.feed.feed_keys import NoFeedPackages
from rellum.core.feed.reading import FeedReader, FeedUnreachable, NotInFeed
from rellum.core.feed.storing import AlreadyPublished, FeedStore

SCHEME: Final = "sftp"
_PIECE: Final = 1 << 18
_PATIENCE: Final = 30
_SFTP_PORT: Final = 22


class _Server(NamedTuple):
    """Where to go, and as whom; ``folder`` is from the server's root on."""

    host: str
    port: int
    user: str | None
    password: str | None
    key_files: list[str]
    folder: str


def _server_of(address: str) -> _Server:
    """Return where an address leads, by the user's own SSH configuration. Raises NoFeedPackages."""
    import_paramiko()
    from paramiko import SSHConfig
    from requests.utils import get_netrc_auth

    parts = urlsplit(address)
    own = os.path.expanduser(os.path.join("~", ".ssh", "config"))
    known = SSHConfig.from_path(own) if os.path.exists(own) else SSHConfig()
    said = known.lookup(parts.hostname or "")
    user = parts.username or said.get("user")
    login, password = get_netrc_auth(f"ssh://{parts.hostname}") or (None, None)
    port = parts.port or int(said.get("port", _SFTP_PORT))
    folder = unquote(parts.path).rstrip("/") or "/"
    key_files = [str(each) for each in said.get("identityfile", [])]
    return _Server(str(said["hostname"]), port, user or login, password, key_files, folder)


def import_paramiko() -> Any:
    """Return the package that speaks SFTP. Raises NoFeedPackages."""
    try:
        import paramiko
    except ImportError as error:
        raise NoFeedPackages(
            f"SFTP needs a package that is not there: {error}",
            hint="Install it: pip install 'rellum[store]'",
        ) from error
    return paramiko


class _Connection:
    """One connection, made when it is needed first."""

    def __init__(self, address: str) -> None:
        self.address = address.rstrip("/")
        self.server = _server_of(address)
        self._client: Any = None
        self._files: Any = None

    def path(self, name: str) -> str:
        """Return where an object is on the server."""
        return f"{self.server.folder}/{name}"

    @contextmanager
    def files(self) -> Iterator[Any]:
        """Give what reads and writes files; what goes wrong is told in plain words.

        Raises FeedUnreachable; FileNotFoundError is left to the caller.
        """
        paramiko = import_paramiko()
        try:
            if self._files is None:
                self._files = self._opened(paramiko)
            yield self._files
        except (FileNotFoundError, FeedUnreachable):
            raise
        except paramiko.BadHostKeyException as error:
            raise FeedUnreachable(
                f"{self.address}: the server shows another key than the one that is known",
                hint="Ask whoever runs it, before you go on.",
            ) from error
        except paramiko.AuthenticationException as error:
            raise FeedUnreachable(
                f"{self.address}: the server does not let you in",
                hint="Does 'sftp' do so? Let it know your key, or write name and password into ~/.netrc.",
            ) from error
        except (paramiko.SSHException, EOFError, OSError) as error:
            words = getattr(error, "strerror", None) or str(error) or "the server broke off"
            raise FeedUnreachable(f"{self.address}: {words}", hint=_hint(words)) from error

    def _opened(self, paramiko: Any) -> Any:
        server = self.server
        client = paramiko.SSHClient()
        client.load_system_host_keys()
        client.connect(
            server.host,
            server.port,
            username=server.user,
            password=server.password,
            key_filename=server.key_files or None,
            timeout=_PATIENCE,
            banner_timeout=_PATIENCE,
            auth_timeout=_PATIENCE,
        )
        self._client = client  # it ends the connection when it is forgotten
        files = client.open_sftp()
        files.get_channel().settimeout(_PATIENCE)
        return files


def _hint(words: str) -> str:
    if "known_hosts" in words:
        return "Connect to it once with 'sftp', and see that its key is the right one."
    return "Is the address right? Players still have the version before."


class SftpReader(FeedReader):
    """Reads a feed by SFTP."""

    def __init__(self, address: str, connection: _Connection | None = None) -> None:
        super().__init__()
        self._to = connection or _Connection(address)

    def _stream(self, name: str, start: int, size: int | None) -> Iterator[bytes]:
        with self._to.files() as files:
            try:
                with files.open(self._to.path(name), "rb") as file:
                    end = file.stat().st_size if size is None else start + size
                    file.prefetch(end)
                    file.seek(start)
                    while start < end and (piece := file.read(min(_PIECE, end - start))):
                        start += len(piece)
                        yield piece
            except FileNotFoundError as error:
                raise NotInFeed(
                    f"{self._to.address} has no {name}", hint="Is this the feed's address?"
                ) from error


class SftpStore(FeedStore):
    """A feed on a server, written to by SFTP: each object under another name first, then renamed."""

    def __init__(self, address: str) -> None:
        self._to = _Connection(address)

    def put(self, name: str, content: bytes) -> None:
        with self._to.files() as files:
            if self._size(files, name) != len(content):
                self._put(files, name, lambda file: file.write(content), over=True)

    def put_file(self, name: str, file: str) -> None:
        with self._to.files() as files, open(file, "rb") as source:
            if self._size(files, name) == os.path.getsize(file):
                return

            def copy(target: Any) -> None:
                while piece := source.read(_PIECE):
                    target.write(piece)

            self._put(files, name, copy, over=True)

    def claim(self, name: str, content: bytes) -> None:
        """Write what only one curator may write: a rename of version 3 fails where something is already."""
        with self._to.files() as files:
            self._put(files, name, lambda file: file.write(content), over=False)

    def replace(self, name: str, content: bytes) -> None:
        with self._to.files() as files:
            self._put(files, name, lambda file: file.write(content), over=True)

    def reader(self) -> FeedReader:
        return SftpReader(self._to.address, self._to)

    def _size(self, files: Any, name: str) -> int | None:
        try:
            return int(files.stat(self._to.path(name)).st_size)
        except FileNotFoundError:
            return None

    def _put(self, files: Any, name: str, write: Any, *, over: bool) -> None:
        path = self._to.path(name)
        unfinished = f"{path}.{uuid.uuid4().hex[:12]}"
        try:
            opened = files.open(unfinished, "wb")
        except FileNotFoundError:
            self._make_folders(files, path)
            opened = files.open(unfinished, "wb")
        try:
            with opened as file:
                file.set_pipelined(True)
                write(file)
            self._rename(files, unfinished, path, over=over)
        except BaseException:
            with suppress(OSError):
                files.remove(unfinished)
            raise

    def _rename(self, files: Any, unfinished: str, path: str, *, over: bool) -> None:
        if over:
            files.posix_rename(unfinished, path)
            return
        try:
            files.rename(unfinished, path)
        except OSError as error:
            try:
                files.stat(path)
            except FileNotFoundError:
                raise error from None
            raise AlreadyPublished(
                f"{path} is on the server already: somebody else publishes this version, or began to",
                hint="Publish again: yours becomes the next version. If theirs was broken off: --take-over",
            ) from error

    def _make_folders(self, files: Any, path: str) -> None:
        parts = path.split("/")[:-1]
        for count in range(2, len(parts) + 1):
            folder = "/".join(parts[:count])
            try:
                files.mkdir(folder)
            except OSError as error:
                # A folder further out may be one that nobody may make, and stand all the same.
                if error.errno == errno.ENOENT:
                    raise
