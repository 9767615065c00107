"""Pages and feeds: asked for seldom, and only if they changed; against a server of the test's own."""

from __future__ import annotations

import http.server
import os
import tempfile
import threading
import unittest
from typing import ClassVar

from rellum.core.fetching.model import Patience
from rellum.core.fetching.pages import (
    MOST_BYTES,
    PAUSE_SECONDS,
    REST_SECONDS,
    Page,
    PageFails,
    Pages,
)


class Handler(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    asked: ClassVar[list[tuple[str, str, str]]] = []
    at_work = 0
    most_at_work = 0
    lock = threading.Lock()
    content = b"version 1.0"
    modified = ""

    def do_GET(self) -> None:
        kind = type(self)
        with kind.lock:
            kind.at_work += 1
            kind.most_at_work = max(kind.most_at_work, kind.at_work)
        tag, date = self.headers.get("If-None-Match", ""), self.headers.get("If-Modified-Since", "")
        kind.asked.append((self.path, tag, date))
        mark = f'W/"{len(kind.content)}"'
        if self.path == "/wait":
            self.answer(429, b"", {"Retry-After": "100"})
        elif self.path == "/large":
            self.answer(200, bytes(MOST_BYTES + 1), {})
        elif self.path == "/gone":
            self.answer(404, b"", {})
        elif self.path == "/away":
            self.answer(302, b"", {"Location": "file:///etc/passwd"})
        elif tag == mark or (date and date == kind.modified):
            self.answer(304, b"", {})
        else:
            more = {"Last-Modified": kind.modified} if kind.modified else {"ETag": mark}
            self.answer(200, kind.content, more)
        with kind.lock:
            kind.at_work -= 1

    def answer(self, status: int, content: bytes, headers: dict[str, str]) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    def log_message(self, *_: object) -> None:
        """Say nothing."""


class PagesTest(unittest.TestCase):
    def setUp(self) -> None:
        class Own(Handler):
            asked: ClassVar[list[tuple[str, str, str]]] = []

        self.handler = Own
        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Own)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = os.path.join(folder.name, "pages")
        self.now = 1_000_000.0
        patience = Patience(connect=5, stall=5, tries=1)
        self.slept: list[float] = []
        self.pages = Pages(self.folder, patience, lambda: self.now, self.slept.append)

    def url(self, path: str) -> str:
        return f"http://127.0.0.1:{self.server.server_address[1]}{path}"

    def look(self, path: str = "/page") -> Page | PageFails:
        return self.pages.look([self.url(path)])[self.url(path)]

    def content(self) -> bytes:
        found = self.look()
        assert isinstance(found, Page), found
        return found.content

    def test_a_page_is_not_asked_for_again_for_hours(self) -> None:
        self.assertEqual(self.look(), Page(b"version 1.0", self.now, False))
        self.handler.content = b"version 1.10"
        self.now += REST_SECONDS - 1
        self.assertEqual(self.look(), Page(b"version 1.0", 1_000_000.0, True))
        self.assertEqual(len(self.handler.asked), 1)
        self.now += 2
        self.assertEqual(self.look(), Page(b"version 1.10", self.now, False))

    def test_only_what_changed_comes_again(self) -> None:
        for modified in ("", "Sat, 28 Nov 2026 10:00:00 GMT"):
            self.handler.modified = modified
            self.handler.content += b"."
            self.now += REST_SECONDS
            self.content()
            self.now += REST_SECONDS
            self.assertEqual(self.content(), self.handler.content)
            _, tag, date = self.handler.asked[-1]
            self.assertEqual((bool(tag), date), (not modified, modified))

    def test_one_at_a_time_of_a_host(self) -> None:
        urls = [self.url(f"/{number}") for number in range(12)]
        found = self.pages.look(urls + urls)
        self.assertEqual([type(each) for each in found.values()], [Page] * 12)
        self.assertEqual((self.handler.most_at_work, len(self.handler.asked)), (1, 12))
        self.assertEqual(self.slept, [PAUSE_SECONDS] * 11)

    def test_a_site_that_asks_to_wait_is_left_alone(self) -> None:
        found = self.pages.look([self.url("/wait"), self.url("/page")])
        self.assertEqual([type(each) for each in found.values()], [PageFails] * 2)
        self.assertEqual(len(self.handler.asked), 1)

    def test_what_fails_is_said(self) -> None:
        for path, words in (
            ("/gone", "404"),
            ("/large", "more than"),
            ("/away", "not a web address"),
        ):
            with self.subTest(path):
                found = self.look(path)
                assert isinstance(found, PageFails)
                self.assertIn(words, found.reason)
        found = self.pages.look(["http://127.0.0.1:9/x"])["http://127.0.0.1:9/x"]
        self.assertIsInstance(found, PageFails)

    def test_a_damaged_cache_is_passed_over(self) -> None:
        self.content()
        [name] = os.listdir(self.folder)
        for damage in (b"", b"{", b'{"url": 1}', b"[" * 100_000, b'{"content": "?"}'):
            with open(os.path.join(self.folder, name), "wb") as file:
                file.write(damage)
            self.assertEqual(self.content(), b"version 1.0")


if __name__ == "__main__":
    unittest.main()
