"""The demo's stand-in for the download sites of the world, on this machine only.

It is an HTTP proxy that answers for hosts under ``example.invalid`` by itself and passes nothing on,
so that the cards can have addresses that look like addresses. Each host has a trouble of its own:

=====================  =================================================================
``files``              sound: ranges, entity tags
``slow``               asks for a wait of a second between two files (429, Retry-After)
``shaky``              cuts each file in the middle once
``stuck``              sends half a file, then nothing more, once
``mirror``             gives the right number of bytes, one of them wrong
``members``            gives a sign-in page, whatever is asked for
``busy``               answers 503 twice, then gives the file
=====================  =================================================================
"""

from __future__ import annotations

import hashlib
import os
import threading
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Final
from urllib.parse import urlsplit

DOMAIN: Final = "example.invalid"
SIGN_IN: Final = (
    b"<!DOCTYPE html>\n<html><head><title>Members only - please sign in</title></head>\n"
    b"<body><form>Name <input> Word <input></form></body></html>\n"
)
_STUCK_SECONDS: Final = 30.0
_WAIT_SECONDS: Final = 1.0


class Site:
    """The stand-in, serving the files of one folder until it is closed."""

    def __init__(
        self, folder: str, *, bytes_per_second: int = 0, stuck_seconds: float = _STUCK_SECONDS
    ) -> None:
        """Begin to serve. ``bytes_per_second`` 0: as fast as it goes."""
        self.folder = folder
        self.bytes_per_second = bytes_per_second
        self.stuck_seconds = stuck_seconds
        self.requests: list[tuple[str, str, str]] = []
        """Each request that came: host, path, range."""
        self.seen: dict[tuple[str, str], int] = {}
        self.last_file: dict[str, float] = {}
        self.lock = threading.Lock()
        self.closing = threading.Event()
        site = self

        class Handler(_Handler):
            def __init__(self, *arguments: object) -> None:
                self.site = site
                super().__init__(*arguments)  # type: ignore[arg-type]

        self._server = _Server(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    @property
    def address(self) -> str:
        """The proxy's address, for ``http_proxy``."""
        return f"http://127.0.0.1:{self._server.server_address[1]}"

    def close(self) -> None:
        """Stop serving."""
        self.closing.set()
        self._server.shutdown()
        self._server.server_close()

    def __enter__(self) -> Site:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class _Server(ThreadingHTTPServer):
    """Says nothing when a client goes away in the middle."""

    def handle_error(self, *_: object) -> None:
        """Let it go."""


class _Cut(Exception):
    """Close the connection in the middle of a file."""


class _Handler(BaseHTTPRequestHandler):
    """Answers one request as the host that it names would."""

    protocol_version = "HTTP/1.1"
    site: Site

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        host = (parts.netloc or self.headers.get("Host", "")).partition(":")[0]
        name, _, domain = host.partition(".")
        self._note(host, parts.path)
        path = os.path.join(self.site.folder, os.path.basename(parts.path))
        if not os.path.isfile(path):
            path = os.path.join(self.site.folder, "pages", os.path.basename(parts.path))
        if domain != DOMAIN or not os.path.isfile(path):
            self._answer(404, b"not here\n", "text/plain")
            return
        trouble: Callable[[str, str], None] = getattr(self, f"_from_{name}", self._from_files)
        try:
            trouble(host, path)
        except (_Cut, ConnectionError):
            self.close_connection = True

    def log_message(self, *_: object) -> None:
        """Say nothing."""

    def _note(self, host: str, path: str) -> None:
        with self.site.lock:
            self.site.requests.append((host, path, self.headers.get("Range", "")))

    def _times(self, host: str, path: str) -> int:
        """Return how often this was asked for before, and count it."""
        with self.site.lock:
            count = self.site.seen.get((host, path), 0)
            self.site.seen[host, path] = count + 1
            return count

    def _from_files(self, host: str, path: str) -> None:
        self._send_file(path)

    def _from_slow(self, host: str, path: str) -> None:
        with self.site.lock:
            wait = self.site.last_file.get(host, 0.0) + _WAIT_SECONDS - time.monotonic()
        if wait > 0:
            self._answer(429, b"one after the other\n", "text/plain", {"Retry-After": "1"})
            return
        self._send_file(path)
        with self.site.lock:
            self.site.last_file[host] = time.monotonic()

    def _from_shaky(self, host: str, path: str) -> None:
        self._send_file(path, cut_at_half=self._times(host, path) == 0)

    def _from_stuck(self, host: str, path: str) -> None:
        first = self._times(host, path) == 0
        try:
            self._send_file(path, cut_at_half=first)
        except _Cut:
            self.site.closing.wait(self.site.stuck_seconds)
            raise

    def _from_mirror(self, host: str, path: str) -> None:
        self._send_file(path, wrong_byte=True)

    def _from_members(self, host: str, path: str) -> None:
        self._answer(200, SIGN_IN, "text/html; charset=utf-8")

    def _from_busy(self, host: str, path: str) -> None:
        if self._times(host, path) < 2:
            self._answer(503, b"too many at once\n", "text/plain")
        else:
            self._send_file(path)

    def _answer(
        self, status: int, content: bytes, kind: str, more: dict[str, str] | None = None
    ) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(content)))
        for name, value in (more or {}).items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(content)

    def _send_file(self, path: str, *, cut_at_half: bool = False, wrong_byte: bool = False) -> None:
        with open(path, "rb") as file:
            content = file.read()
        if wrong_byte:
            middle = len(content) // 2
            content = content[:middle] + bytes([content[middle] ^ 1]) + content[middle + 1 :]
        tag = f'"{hashlib.sha256(content).hexdigest()[:16]}"'
        if self.headers.get("If-None-Match") == tag:
            self.send_response(304)
            self.send_header("ETag", tag)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        start = self._range_start(len(content), tag)
        self.send_response(206 if start else 200)
        self.send_header("Content-Type", "application/octet-stream")
        self.send_header("Accept-Ranges", "bytes")
        self.send_header("ETag", tag)
        self.send_header("Content-Length", str(len(content) - start))
        if start:
            self.send_header("Content-Range", f"bytes {start}-{len(content) - 1}/{len(content)}")
        self.end_headers()
        end = start + (len(content) - start) // 2 if cut_at_half else len(content)
        self._send_slowly(content[start:end])
        if cut_at_half:
            self.wfile.flush()
            raise _Cut

    def _range_start(self, size: int, tag: str) -> int:
        asked = self.headers.get("Range", "")
        if_range = self.headers.get("If-Range", tag)
        if not asked.startswith("bytes=") or if_range != tag:
            return 0
        start = asked.removeprefix("bytes=").rstrip("-")
        return int(start) if start.isdigit() and int(start) < size else 0

    def _send_slowly(self, content: bytes) -> None:
        rate = self.site.bytes_per_second
        if not rate:
            self.wfile.write(content)
            return
        step = max(1, rate // 20)
        for at in range(0, len(content), step):
            self.wfile.write(content[at : at + step])
            self.wfile.flush()
            if self.site.closing.wait(0.05):
                raise _Cut
