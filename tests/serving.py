"""Web servers that live as long as a test."""

from __future__ import annotations

import http.server
import threading
import unittest
from typing import Any


def serve(test: unittest.TestCase, handler: Any) -> str:
    """Serve by a handler until the test ends; return the address."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    server.daemon_threads = True
    serving = threading.Thread(target=server.serve_forever, daemon=True)
    serving.start()
    test.addCleanup(serving.join)
    test.addCleanup(server.server_close)
    test.addCleanup(server.shutdown)
    return f"http://127.0.0.1:{server.server_address[1]}"
