"""A plain file server on this machine, with ranges (RFC 9110), for the benchmarks; prints its address."""

from __future__ import annotations

import os
import re
import sys
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

_RANGE = re.compile(r"bytes=(\d+)-(\d*)")


class Handler(SimpleHTTPRequestHandler):
    """Sends files by sendfile(2), so that the server costs both clients next to nothing."""

    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        """Send a file, or the part of it that is asked for."""
        match = _RANGE.fullmatch(self.headers.get("Range", ""))
        path = self.translate_path(self.path)
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
            self.wfile.flush()
            self.connection.sendfile(source, start, end - start + 1)

    def copyfile(self, source: Any, outputfile: Any) -> None:
        """Send a file's bytes."""
        self.wfile.flush()
        self.connection.sendfile(source)

    def log_message(self, *_: object) -> None:
        """Say nothing."""


def main() -> None:
    """Serve the folder named until stopped."""
    os.chdir(sys.argv[1])
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    print(f"http://127.0.0.1:{server.server_address[1]}", flush=True)
    server.serve_forever()


if __name__ == "__main__":
    main()
