"""Fetch from servers that answer at random: ``python -m tools.fuzz_answers SECONDS SEED``.

Heads are damaged or lie, bodies are cut, damaged, packed, dripped or never end, redirections lead anywhere.
Only the whole content or a reason may come of it, in bounded time, and never more bytes than allowed.
"""

from __future__ import annotations

import gzip
import hashlib
import os
import random
import socket
import sys
import tempfile
import threading
import time
from contextlib import suppress

from rellum.core.fetching.fetcher import Fetcher
from rellum.core.fetching.model import Patience, Wanted
from tools.fuzzing import Round, damaged, fuzz

CONTENT = b"the sea, " * 1000
PATIENCE = Patience(connect=1, stall=1, tries=2, first_wait=0.01, most_bytes=1 << 20)
SLOW_SECONDS = 60.0
SERVED_SECONDS = 5.0
"""A body without end is sent for so long; then it is given up or the client would never come back."""
HEADERS = (
    b"Content-Length: 9000", b"Content-Length: 9001", b"Content-Length: -1", b"Content-Length: 1, 2",
    b"Transfer-Encoding: chunked", b"Transfer-Encoding: gzip, chunked", b"Content-Encoding: gzip",
    b"Content-Encoding: deflate", b"Content-Encoding: br", b"Content-Range: bytes 5-8999/9000",
    b"Content-Range: bytes */9000", b"Retry-After: 999999999", b"Retry-After: 0", b"Location: /again",
    b"Location: //[::1", b"Location: http://", b"Location: file:///etc/passwd", b"Connection: close",
    b"Content-Disposition: attachment; filename=../../x", b"Set-Cookie: a=" + b"b" * 60_000,
    b"ETag: \"\xff\"", b"Content-Type: text/html", b"X: " + b"y" * 200_000, b": ", b"\0",
    b"Content-Length: 9e3",
)  # fmt: skip
STATUSES = (b"200 OK", b"206 Partial Content", b"302 Found", b"304 Not Modified", b"404 No", b"416 No",
            b"429 Slower", b"500 No", b"503 Later", b"100 Continue", b"999 Odd", b"2000 OK", b"")  # fmt: skip


class Answer:
    """What a server sends to each who asks: pieces, with a pause between them, perhaps again and again."""

    def __init__(self, source: random.Random) -> None:
        status = source.choice(STATUSES) if source.random() < 0.6 else STATUSES[0]
        lines = [b"HTTP/1.1 " + status, *source.sample(HEADERS, source.randint(0, 4))]
        body = source.choice(
            (CONTENT, CONTENT[:5000], CONTENT * 2, b"", gzip.compress(CONTENT), bytes(9000))
        )
        if source.random() < 0.1:
            body = gzip.compress(bytes(200_000_000), 1)
        if b"Transfer-Encoding: chunked" in lines and source.random() < 0.8:
            body = b"".join(
                b"%x\r\n%s\r\n" % (len(body[at : at + 3000]), body[at : at + 3000])
                for at in range(0, len(body), 3000)
            ) + b"0\r\n\r\n" * source.randint(0, 1)
        head = b"\r\n".join(lines) + b"\r\n\r\n"
        self.head = damaged(head, source) if source.random() < 0.3 else head
        self.body = damaged(body, source) if body and source.random() < 0.3 else body
        self.drips = source.random() < 0.1
        self.ends = source.random() < 0.85

    def send(self, peer: socket.socket) -> None:
        """Answer one question."""
        peer.sendall(self.head)
        if self.drips:
            for at in range(len(self.body)):
                peer.sendall(self.body[at : at + 1])
                time.sleep(0.2)
        peer.sendall(self.body)
        ends = time.monotonic() + SERVED_SECONDS
        while not self.ends and time.monotonic() < ends:
            peer.sendall(self.body[:4096] or b"a: b\r\n")
            time.sleep(0.001)


class Server:
    """Answers every address by the answer that was made for it."""

    def __init__(self) -> None:
        self.answers: dict[str, Answer] = {}
        self.socket = socket.create_server(("127.0.0.1", 0), backlog=64)
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            peer, _ = self.socket.accept()
            threading.Thread(target=self._answer, args=(peer,), daemon=True).start()

    def _answer(self, peer: socket.socket) -> None:
        with suppress(OSError, IndexError, KeyError, ValueError), peer:
            peer.settimeout(SERVED_SECONDS)
            asked = peer.recv(65536).split(b" ")[1].decode()
            self.answers[asked].send(peer)


def main() -> int:
    """Fuzz for a time; 1 where something other than the content or a reason came of it."""
    server = Server()
    host, port = server.socket.getsockname()
    with tempfile.TemporaryDirectory() as folder:

        def make(source: random.Random) -> Round:
            server.answers = {f"/{number}": Answer(source) for number in range(12)}
            server.answers["/again"] = Answer(source)
            sized = source.random() < 0.7
            wanted = [
                Wanted(
                    name=f"{name[1:]}.zip",
                    size=len(CONTENT) if sized else None,
                    sha256=hashlib.sha256(CONTENT).hexdigest(),
                    blake3=None,
                    urls=(f"http://{host}:{port}{name}",),
                )
                for name in server.answers
                if name != "/again"
            ]
            sent = b"\n\n".join(each.head + each.body[:20_000] for each in server.answers.values())
            return Round("twelve answers", sent, lambda: look(folder, wanted))

        return fuzz(make, SLOW_SECONDS)


def look(folder: str, wanted: list[Wanted]) -> None:
    """Fetch, and hold what came to what was asked for."""
    for outcome in Fetcher(folder, PATIENCE, lambda _: None).fetch(wanted):
        if outcome.path is None:
            assert outcome.reasons, outcome
            continue
        with open(outcome.path, "rb") as file:
            assert file.read() == CONTENT, "other content was taken"
    for each in os.scandir(folder):
        assert each.is_dir() or each.stat().st_size <= PATIENCE.most_bytes, (
            "more bytes than allowed"
        )
        if each.is_file():
            os.unlink(each.path)


if __name__ == "__main__":
    sys.exit(main())
