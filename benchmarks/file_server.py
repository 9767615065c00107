"""A plain file server on this machine for the benchmark of fetch; prints its address."""

from __future__ import annotations

import os
import sys
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer


class Handler(SimpleHTTPRequestHandler):
    """Sends files by sendfile(2), so that the server costs both clients next to nothing."""

    protocol_version = "HTTP/1.1"

    def copyfile(self, source, outputfile) -> None:
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
