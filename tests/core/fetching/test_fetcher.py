"""Fetching by itself: hosts, waits, mirrors and what stays, against a made-up transfer."""

from __future__ import annotations

import email.utils
import hashlib
import os
import tempfile
import threading
import time
import unittest
from collections.abc import Callable, Mapping
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.fetching import fetcher as module
from rellum.core.fetching.fetcher import Fetcher
from rellum.core.fetching.metalink import ListedFile, metalink_text, read_metalink
from rellum.core.fetching.model import FetchProgress, Outcome, Patience, Wanted, host_of, shown_url
from rellum.core.fetching.partial import Partial
from rellum.core.fetching.transfer import (
    AddressFails,
    TryAgain,
    content_range,
    local_path,
    retry_after,
)

CONTENT = b"the sea, " * 100
Act = Callable[[Partial, int], None]


def wanted(name: str, *urls: str, content: bytes = CONTENT) -> Wanted:
    return Wanted(
        name=name,
        size=len(content),
        sha256=hashlib.sha256(name.encode() + content).hexdigest(),
        blake3=None,
        urls=urls,
    )


class FakeTransfer:
    """Stands in for the network: what each address does is written beside it."""

    def __init__(self, acts: Mapping[str, Act]) -> None:
        self.acts = acts
        self.calls: dict[str, int] = {}
        self.at_work: dict[str, int] = {}
        self.most_at_work = 0
        self.most_per_host = 0
        self.lock = threading.Lock()

    def __call__(self, patience: Patience) -> FakeTransfer:
        return self

    def bring(self, file: Wanted, url: str, partial: Partial, arrived) -> None:
        host = host_of(url)
        with self.lock:
            self.calls[url] = self.calls.get(url, 0) + 1
            self.at_work[host] = self.at_work.get(host, 0) + 1
            self.most_per_host = max(self.most_per_host, self.at_work[host])
            self.most_at_work = max(self.most_at_work, sum(self.at_work.values()))
        try:
            arrived(partial.size, file.size)
            partial.begin_from(url, "")
            self.acts[url.rpartition("/")[2]](partial, self.calls[url])
        finally:
            with self.lock:
                self.at_work[host] -= 1


class FetcherTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = folder.name
        self.seen: list[FetchProgress] = []

    def fetch(self, acts: Mapping[str, Act], *files: Wanted, **patience) -> dict[str, Outcome]:
        self.transfer = FakeTransfer(acts)
        quick = {"first_wait": 0.01, "longest_wait": 0.05, "tries": 3, **patience}
        fetcher = Fetcher(self.folder, Patience(**quick), self.seen.append)
        with mock.patch.object(module, "Transfer", self.transfer):
            return {each.wanted.name: each for each in fetcher.fetch(files)}

    def file(self, name: str, *urls: str) -> Wanted:
        """A file whose right bytes are CONTENT."""
        return Wanted(
            name=name,
            size=len(CONTENT),
            sha256=hashlib.sha256(CONTENT).hexdigest(),
            blake3=None,
            urls=urls,
        )

    def test_one_a_host_several_hosts_at_once(self) -> None:
        def slowly(partial: Partial, call: int) -> None:
            time.sleep(0.05)
            partial.add(CONTENT)

        files = []
        for host in "abc":
            for number in range(3):
                content = f"{host}{number}".encode().ljust(len(CONTENT))
                file = Wanted(
                    name=f"{host}{number}", size=len(CONTENT), blake3=None, urls=(f"http://{host}/s",),
                    sha256=hashlib.sha256(content).hexdigest(),
                )  # fmt: skip
                files.append(file)
        told = self.fetch({"s": slowly}, *files, tries=1)
        self.assertEqual(len(told), 9)
        self.assertEqual(self.transfer.most_per_host, 1)
        self.assertGreaterEqual(self.transfer.most_at_work, 2)

    def test_waits_grow_and_end(self) -> None:
        def never(partial: Partial, call: int) -> None:
            raise TryAgain("nobody there")

        began = time.monotonic()
        told = self.fetch(
            {"x": never}, self.file("f", "http://a/x"), first_wait=0.1, longest_wait=0.3, tries=4
        )
        self.assertGreaterEqual(time.monotonic() - began, 0.1 + 0.2 + 0.3)
        self.assertEqual(self.transfer.calls["http://a/x"], 4)
        self.assertEqual(told["f"].reasons, ("http://a/x: nobody there, 4 times",))

    def test_what_a_site_asks_for_is_waited_and_counted_down(self) -> None:
        def later(partial: Partial, call: int) -> None:
            if call == 1:
                raise TryAgain("busy", asked=0.4)
            partial.add(CONTENT)

        began = time.monotonic()
        told = self.fetch({"x": later}, self.file("f", "http://a/x"))
        self.assertGreaterEqual(time.monotonic() - began, 0.4)
        self.assertIsNotNone(told["f"].path)
        words = {file.words for each in self.seen for file in each.files if file.state == "waiting"}
        self.assertIn("again in 0 s: the site asked to wait", words)

        def much_later(partial: Partial, call: int) -> None:
            raise TryAgain("busy", asked=99_999)

        os.unlink(str(told["f"].path))
        told = self.fetch({"x": much_later}, self.file("g", "http://a/x"))
        self.assertIn("asks to wait 99999 s", told["g"].reasons[0])

    def test_progress_starts_the_tries_anew(self) -> None:
        def dripping(partial: Partial, call: int) -> None:
            partial.add(CONTENT[partial.size : partial.size + 100])
            if partial.size < len(CONTENT):
                raise TryAgain("cut")

        told = self.fetch({"x": dripping}, self.file("f", "http://a/x"))
        self.assertIsNotNone(told["f"].path)
        self.assertEqual(self.transfer.calls["http://a/x"], len(CONTENT) // 100)

    def test_a_wrong_mirror_is_dropped_and_mixtures_begin_again(self) -> None:
        def wrong(partial: Partial, call: int) -> None:
            partial.add(bytes(len(CONTENT) - partial.size))

        def half(partial: Partial, call: int) -> None:
            partial.add(bytes(200))
            raise AddressFails("gone")

        def right(partial: Partial, call: int) -> None:
            partial.add(CONTENT[partial.size :])

        acts = {"wrong": wrong, "half": half, "right": right}
        told = self.fetch(acts, self.file("f", "http://a/wrong", "http://b/right"))
        self.assertEqual(len(told["f"].reasons), 1)
        self.assertEqual(self.transfer.calls, {"http://a/wrong": 1, "http://b/right": 1})
        told = self.fetch(acts, self.file("g", "http://a/half", "http://b/right"))
        self.assertEqual(self.transfer.calls.get("http://b/right", 0), 0)  # f's bytes are here
        os.unlink(str(told["g"].path))
        told = self.fetch(acts, self.file("g", "http://a/half", "http://b/right"))
        self.assertEqual(
            self.transfer.calls["http://b/right"], 2
        )  # once on top of half, once alone
        self.assertIsNotNone(told["g"].path)

    def test_a_full_disk_is_said_and_stops_all(self) -> None:
        def full(partial: Partial, call: int) -> None:
            raise OSError(28, "No space left on device")

        with self.assertRaisesRegex(OSError, "No space"):
            self.fetch({"x": full}, self.file("f", "http://a/x"), self.file("g", "http://b/x"))

    def test_the_caller_may_stop(self) -> None:
        def endless(partial: Partial, call: int) -> None:
            partial.add(b"x")
            raise TryAgain("cut", asked=5)

        self.transfer = FakeTransfer({"x": endless})
        fetcher = Fetcher(self.folder, Patience(), self.seen.append)
        with mock.patch.object(module, "Transfer", self.transfer):
            outcomes = fetcher.fetch([self.file("f", "http://a/x")])
            threading.Timer(0.3, fetcher._stop.set).start()
            began = time.monotonic()
            fetcher._stop.wait()
            outcomes.close()  # type: ignore[attr-defined]
        self.assertLess(time.monotonic() - began, 3)


class PartialTest(unittest.TestCase):
    @given(st.lists(st.binary(max_size=50), max_size=6), st.integers(0, 6))
    def test_it_goes_on_where_another_process_ended(self, pieces, cut) -> None:
        whole = b"".join(pieces)
        file = Wanted(
            name="f",
            size=len(whole),
            sha256=hashlib.sha256(whole).hexdigest(),
            blake3=None,
            urls=(),
        )
        with tempfile.TemporaryDirectory() as folder:
            first = Partial(folder, file)
            first.begin_from("http://a/f", '"tag"')
            for piece in pieces[:cut]:
                first.add(piece)
            first.close()
            second = Partial(folder, file)
            self.assertEqual(second.mark, '"tag"')
            for piece in pieces[cut:]:
                second.add(piece)
            self.assertEqual(second.fault(), "")
            second.add(b"!")
            self.assertIn("bytes, not", second.fault())
            second.start_over()
            self.assertEqual((second.size, second.mark, second.sources), (0, "", []))
            second.close()


class WordsOfTheProtocolTest(unittest.TestCase):
    def test_retry_after(self) -> None:
        self.assertEqual(retry_after("120", 0), 120)
        date = email.utils.formatdate(1_000_060, usegmt=True)
        self.assertEqual(retry_after(date, 1_000_000), 60)
        self.assertEqual(retry_after(date, 2_000_000), 0)
        for text in ("", "soon", "-5", "1.5"):
            self.assertIsNone(retry_after(text, 0))

    def test_ranges(self) -> None:
        self.assertEqual(content_range("bytes 10-99/100"), (10, 100))
        self.assertEqual(content_range("bytes 10-99/*"), (10, None))
        for text in ("", "bytes */100", "items 0-1/2", "bytes 10-/100"):
            self.assertEqual(content_range(text), (-1, None))

    def test_addresses(self) -> None:
        self.assertEqual(
            host_of("http://me:pw@Files.example.invalid:81/x"), "files.example.invalid:81"
        )
        self.assertEqual(host_of("file:///x"), "")
        self.assertEqual(shown_url("https://me:pw@a.invalid/x?key=1"), "https://a.invalid/x")
        self.assertEqual(local_path("file:///a%20b/c", "/w"), "/a b/c")
        self.assertEqual(local_path("file:../x%20y.zip", "/w/cards"), "/w/x y.zip")


class MetalinkTest(unittest.TestCase):
    TEXT = st.text(st.characters(min_codepoint=32, max_codepoint=0x2FF), min_size=1, max_size=20)
    FILE = st.builds(
        ListedFile,
        name=TEXT.map(str.strip).filter(lambda n: n not in ("", ".", "..") and not set(n) & set("/\\")),
        size=st.none() | st.integers(0, 1 << 40),
        sha256=st.none() | st.binary(min_size=32, max_size=32).map(bytes.hex),
        urls=st.lists(st.from_regex(r"https?://[a-z]{1,9}/[a-z&<]{0,9}", fullmatch=True)).map(tuple),
        description=TEXT.map(str.strip),
    )  # fmt: skip

    @given(st.lists(FILE, min_size=1, max_size=4))
    def test_what_is_written_is_read(self, files) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = os.path.join(folder, "x.meta4")
            with open(path, "w", encoding="utf-8", newline="") as file:
                file.write(metalink_text(files))
            self.assertEqual(read_metalink(path), tuple(files))


if __name__ == "__main__":
    unittest.main()
