"""A plain file server on this machine, with ranges (RFC 9110), for the benchmarks; prints its address.

``python -m benchmarks.file_server FOLDER [BYTES] [HIDDEN]`` sends no more than so many bytes a second to all
together, and nothing whose path begins with HIDDEN.
"""

from __future__ import annotations

import os
import re
import sys
import threading
import time
from contextlib import suppress
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

_RANGE = re.compile(r"bytes=(\d+)-(\d*)")
_PIECE = 64 << 10


class Rate:
    """Bytes a second, for all connections together; 0 is no limit."""

    def __init__(self, bytes_a_second: int) -> None:
        self.bytes_a_second = bytes_a_second
        self._free_at = time.monotonic()
        self._lock = threading.Lock()

    def wait(self, size: int) -> None:
        """Wait until so many bytes may be sent."""
        with self._lock:
            now = time.monotonic()
            self._free_at = max(now, self._free_at) + size / self.bytes_a_second
            pause = self._free_at - now
        time.sleep(max(0.0, pause))


class Handler(SimpleHTTPRequestHandler):
    """Sends files by sendfile(2), so that the server costs both clients next to nothing."""

    protocol_version = "HTTP/1.1"
    rate = Rate(0)
    hidden = " "

    def handle(self) -> None:
        """Answer until the client leaves, however it does."""
        with suppress(ConnectionError):
            super().handle()

    def do_GET(self) -> None:
        """Send a file, or the part of it that is asked for."""
        match = _RANGE.fullmatch(self.headers.get("Range", ""))
        path = self.translate_path(self.path)
        if self.path.startswith(self.hidden):
            self.send_error(404)
            return
        if match is None or not os.path.isfile(path):
            super().do_GET()
            return
        size = os.path.getsize(path)
        start, end = int(match[1]), int(match[2] or size - 1)
        end = min(end, size - 1)
        self.send_response(206)
        self.send_header("Content-Range", f"bytes {start}-{end}/{size}")
        self.send_header("Content-Length", str(end - start + 1))
        self.end_headers()
        with open(path, "rb") as source:
            self._send(source, start, end - start + 1)

    def copyfile(self, source: Any, outputfile: Any) -> None:
        """Send a file's bytes."""
        self._send(source, 0, os.fstat(source.fileno()).st_size)

    def _send(self, source: Any, start: int, size: int) -> None:
        self.wfile.flush()
        if not self.rate.bytes_a_second:
            self.connection.sendfile(source, start, size)
            return
        while size:
            piece = min(_PIECE, size)
            self.rate.wait(piece)
            self.connection.sendfile(source, start, piece)
            start, size = start + piece, size - piece

    def log_message(self, *_: object) -> None:
        """Say nothing."""


def main() -> None:
    """Serve the folder named until stopped."""
    folder, rate, hidden = [*sys.argv[1:], *("", "0", " ")[len(sys.argv) - 1 :]]
    os.chdir(folder)
    Handler.rate, Handler.hidden = Rate(int(rate)), hidden
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    print(f"http://127.0.0.1:{server.server_address[1]}", flush=True)
    server.serve_forever()


if __name__ == "__main__":
    main()
