"""Pages and feeds, asked for politely: seldom, one at a time of each host, and only if they changed.

Conditional requests as in RFC 9110, 13. What a page said is kept in the user's cache folder. Nothing is sent
but the request itself.
"""

from __future__ import annotations

import base64
import binascii
import json
import os
import tempfile
import time
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Final, NamedTuple

from rellum.core.fetching.model import Patience, host_of
from rellum.core.fetching.transfer import AddressFails, Transfer, TryAgain
from rellum.core.hashing import hash_bytes

REST_SECONDS: Final = 6 * 3600.0
"""A page is not asked for again before this time has passed."""

PAUSE_SECONDS: Final = 0.5
"""The time between two pages of one host."""

MOST_BYTES: Final = 1 << 20
_PATIENCE: Final = Patience(connect=10, stall=10, tries=1)
_HOSTS_AT_ONCE: Final = 8


class Page(NamedTuple):
    """What a page said. ``asked`` is when (seconds of Unix time); ``is_kept``: it was not asked for now."""

    content: bytes
    asked: float
    is_kept: bool


class PageFails(NamedTuple):
    """A page that gives nothing, and why."""

    reason: str


class Pages:
    """Looks at pages. ``folder`` is where they are kept."""

    def __init__(
        self,
        folder: str,
        patience: Patience = _PATIENCE,
        now: Callable[[], float] = time.time,
        sleep: Callable[[float], None] = time.sleep,
    ) -> None:
        self._folder = folder
        self._patience = patience
        self._now = now
        self._sleep = sleep

    def look(self, urls: Iterable[str]) -> dict[str, Page | PageFails]:
        """Return what each page says now, or why it says nothing."""
        by_host: dict[str, list[str]] = {}
        for url in dict.fromkeys(urls):
            by_host.setdefault(host_of(url), []).append(url)
        found: dict[str, Page | PageFails] = {}
        with ThreadPoolExecutor(_HOSTS_AT_ONCE) as pool:
            for pages in pool.map(self._look_at_host, by_host.values()):
                found |= pages
        return found

    def _look_at_host(self, urls: list[str]) -> dict[str, Page | PageFails]:
        transfer = Transfer(self._patience)
        found: dict[str, Page | PageFails] = {}
        refused, asked = "", False
        for url in urls:
            kept = self._kept(url)
            if kept and 0 <= self._now() - kept.asked < REST_SECONDS:
                found[url] = Page(kept.content, kept.asked, True)
            elif refused:
                found[url] = PageFails(refused)
            else:
                if asked:
                    self._sleep(PAUSE_SECONDS)
                asked = True
                found[url], must_wait = self._ask(transfer, url, kept)
                refused = "its site asked to wait" if must_wait else ""
        return found

    def _ask(
        self, transfer: Transfer, url: str, kept: _Kept | None
    ) -> tuple[Page | PageFails, bool]:
        """Ask for a page; say also whether its site wants to be left alone."""
        headers = {}
        if kept and kept.mark:
            headers["If-None-Match"] = kept.mark
        if kept and kept.modified:
            headers["If-Modified-Since"] = kept.modified
        try:
            answer = transfer.page(url, headers, MOST_BYTES)
        except AddressFails as error:
            return PageFails(str(error)), False
        except (TryAgain, OSError) as error:
            return PageFails(str(error)), isinstance(error, TryAgain) and error.asked is not None
        now = self._now()
        if answer.is_unchanged and kept:
            self._keep(url, kept._replace(asked=now))
            return Page(kept.content, now, False), False
        self._keep(url, _Kept(url, answer.mark, answer.modified, now, answer.content))
        return Page(answer.content, now, False), False

    def _file_of(self, url: str) -> str:
        return os.path.join(self._folder, f"{hash_bytes(url.encode())[:32]}.json")

    def _kept(self, url: str) -> _Kept | None:
        try:
            with open(self._file_of(url), encoding="utf-8") as file:
                kept = _as_kept(json.load(file))
        except (OSError, ValueError, RecursionError):
            return None
        return kept if kept and kept.url == url else None

    def _keep(self, url: str, kept: _Kept) -> None:
        """Keep a page; where the cache cannot be written, it is asked for again next time."""
        said = {**kept._asdict(), "content": base64.b64encode(kept.content).decode("ascii")}
        try:
            os.makedirs(self._folder, exist_ok=True)
            descriptor, path = tempfile.mkstemp(dir=self._folder)
            with os.fdopen(descriptor, "w", encoding="utf-8") as file:
                json.dump(said, file)
            os.replace(path, self._file_of(url))
        except OSError:
            return


class _Kept(NamedTuple):
    """A page as it is kept, with what the site marks its state by."""

    url: str
    mark: str
    modified: str
    asked: float
    content: bytes


def _as_kept(said: Any) -> _Kept | None:
    try:
        content = base64.b64decode(said["content"], validate=True)
        asked = float(said["asked"])
        return _Kept(str(said["url"]), str(said["mark"]), str(said["modified"]), asked, content)
    except (KeyError, TypeError, ValueError, binascii.Error):
        return None
