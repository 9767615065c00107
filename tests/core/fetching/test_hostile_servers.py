"""Servers that lie, drip or never end: each is given up in time, and what comes stays bounded."""

from __future__ import annotations

import hashlib
import os
import socket
import tempfile
import threading
import time
import unittest
from collections.abc import Callable
from contextlib import suppress

from rellum.core.fetching.fetcher import Fetcher
from rellum.core.fetching.model import Outcome, Patience, Wanted

CONTENT = b"the sea, " * 1000
PATIENCE = Patience(connect=1, stall=1, tries=1, first_wait=0.01, most_bytes=1 << 20)
LONGEST_SECONDS = 20
"""What an answer may take on a machine under load; each should be given up after about two."""

Serve = Callable[[socket.socket], None]
OK = b"HTTP/1.1 200 OK\r\n"


def for_ever(piece: bytes, pause: float = 0.0) -> Serve:
    """Return what sends a piece again and again."""

    def serve(peer: socket.socket) -> None:
        while True:
            peer.sendall(piece)
            time.sleep(pause)

    return serve


def after(head: bytes, then: Serve) -> Serve:
    """Return what sends a head, and then something else."""

    def serve(peer: socket.socket) -> None:
        peer.sendall(head)
        then(peer)

    return serve


def whole(peer: socket.socket) -> None:
    peer.sendall(OK + b"Content-Length: %d\r\n\r\n" % len(CONTENT) + CONTENT)


def nothing(peer: socket.socket) -> None:
    time.sleep(60)


CHUNKED = OK + b"Transfer-Encoding: chunked\r\n\r\n"
SERVERS: dict[str, Serve] = {
    "good": whole,
    "silent": nothing,
    "a-head-that-drips": after(OK, for_ever(b"a", 0.2)),
    "heads-without-end": after(OK, for_ever(b"a: b\r\n")),
    "continue-without-end": for_ever(b"HTTP/1.1 100 Continue\r\n\r\n"),
    "no-length-and-no-end": after(OK + b"\r\n", for_ever(b"x" * 4096)),
    "a-long-length-and-silence": after(OK + b"Content-Length: 9000\r\n\r\n", nothing),
    "more-than-it-said": after(OK + b"Content-Length: 8000\r\n\r\n", for_ever(CONTENT)),
    "a-chunk-head-without-end": after(CHUNKED + b"1;", for_ever(b"a" * 100, 0.01)),
    "bytes-that-drip": after(OK + b"Content-Length: 9000\r\n\r\n", for_ever(b"x", 0.2)),
    "trailers-without-end": after(CHUNKED + b"0\r\n", for_ever(b"a: b\r\n", 0.01)),
    "a-redirection-with-a-body-without-end": after(
        b"HTTP/1.1 302 Found\r\nLocation: /good\r\n\r\n", for_ever(b"x" * 4096)
    ),
    "round-and-round": lambda peer: peer.sendall(
        b"HTTP/1.1 302 Found\r\nLocation: /round-and-round\r\nContent-Length: 0\r\n\r\n"
    ),
    "to-a-file": lambda peer: peer.sendall(
        b"HTTP/1.1 302 Found\r\nLocation: file:///etc/passwd\r\nContent-Length: 0\r\n\r\n"
    ),
    "to-no-address": lambda peer: peer.sendall(
        b"HTTP/1.1 302 Found\r\nLocation: //[::1\r\nContent-Length: 0\r\n\r\n"
    ),
    "a-length-in-other-digits": after(OK + b"Content-Length: \xb2\r\n\r\n", nothing),
    "not-http": for_ever(b"\0\xff" * 999),
    "a-length-that-is-none": after(OK + b"Content-Length: 9e9\r\n\r\n", nothing),
    "a-length-without-end": after(OK + b"Content-Length: " + b"9" * 70_000, nothing),
}


class HostileServersTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = folder.name
        self.server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(self.server.close)
        threading.Thread(target=self.accept, daemon=True).start()

    def accept(self) -> None:
        while True:
            try:
                peer, _ = self.server.accept()
            except OSError:
                return
            threading.Thread(target=self.answer, args=(peer,), daemon=True).start()

    def answer(self, peer: socket.socket) -> None:
        with suppress(OSError), peer:
            asked = peer.recv(65536).split(b" ")[1].decode()
            SERVERS[asked.strip("/")](peer)

    def fetch(self, name: str, *, sized: bool) -> Outcome:
        host, port = self.server.getsockname()
        wanted = Wanted(
            name=name,
            size=len(CONTENT) if sized else None,
            sha256=hashlib.sha256(CONTENT).hexdigest(),
            blake3=None,
            urls=(f"http://{host}:{port}/{name}",),
        )
        [outcome] = Fetcher(self.folder, PATIENCE, lambda _: None).fetch([wanted])
        return outcome

    def test_each_comes_to_an_end(self) -> None:
        good = ("good", "a-redirection-with-a-body-without-end")
        for name in SERVERS:
            for sized in (True, False):
                with self.subTest(server=name, sized=sized):
                    began = time.monotonic()
                    outcome = self.fetch(name, sized=sized)
                    self.assertLess(time.monotonic() - began, LONGEST_SECONDS)
                    self.assertEqual(outcome.path is not None, name in good, outcome.reasons)
                    sizes = [os.path.getsize(each.path) for each in os.scandir(self.folder)]
                    self.assertLessEqual(max(sizes, default=0), PATIENCE.most_bytes)
                    for each in os.scandir(self.folder):
                        os.unlink(each.path)


if __name__ == "__main__":
    unittest.main()
