"""Fetching many files: one transfer a host at a time, several hosts at once, mirrors in turn."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from rellum.core.fetching.model import (
    FetchListener,
    FetchProgress,
    FileProgress,
    Outcome,
    Patience,
    Wanted,
    host_of,
    shown_url,
)
from rellum.core.fetching.partial import Partial
from rellum.core.fetching.transfer import AddressFails, Interrupted, Transfer, TryAgain

_TICK = 0.1
"""Seconds between two looks at whether the user wants to stop, while waiting."""


@dataclass(slots=True)
class _Job:
    """A file on its way: the addresses that are left, and why the others failed."""

    wanted: Wanted
    urls: list[str]
    progress: FileProgress
    reasons: list[str] = field(default_factory=list)
    path: str | None = None
    hashes: tuple[str, dict[str, str]] = ("", {})
    in_work: bool = False
    ended: bool = False

    def outcome(self) -> Outcome:
        """Return what became of it."""
        blake3, others = self.hashes
        return Outcome(
            wanted=self.wanted,
            path=self.path,
            reasons=tuple(self.reasons),
            blake3=blake3,
            others=tuple(others.items()),
        )


class Fetcher:
    """Fetches files into a folder, each under its key, and tells of each as it is there."""

    def __init__(self, folder: str, patience: Patience, listen: FetchListener) -> None:
        self._folder = folder
        self._patience = patience
        self._listen = listen
        self._jobs: list[_Job] = []
        self._busy: set[str] = set()
        self._changed = threading.Condition()
        self._stop = threading.Event()
        self._failure: BaseException | None = None

    def fetch(self, files: Sequence[Wanted]) -> Iterator[Outcome]:
        """Yield what became of each file, as each ends. Raises OSError of this machine's disk.

        When the caller stops early, or is interrupted, all transfers end and keep what has come.
        """
        os.makedirs(self._folder, exist_ok=True)
        self._jobs = [
            _Job(
                file,
                list(file.urls),
                FileProgress(name=file.name, state="queued", done=0, total=file.size),
            )
            for file in files
        ]
        hosts = {host_of(url) for file in files for url in file.urls}
        count = max(1, min(self._patience.at_once, len(hosts), len(files)))
        threads = [threading.Thread(target=self._work, daemon=True) for _ in range(count)]
        for thread in threads:
            thread.start()
        told: set[int] = set()
        try:
            while len(told) < len(self._jobs) and not self._failure:
                with self._changed:
                    self._changed.wait(_TICK)
                for number, job in enumerate(self._jobs):
                    if job.ended and number not in told:
                        told.add(number)
                        yield job.outcome()
        finally:
            self._stop.set()
            for thread in threads:
                thread.join()
        if self._failure:
            raise self._failure

    def note(self, wanted: Wanted, progress: FileProgress) -> None:
        """Show what became of a file after it was fetched."""
        for job in self._jobs:
            if job.wanted == wanted:
                self._show(job, progress)

    def _work(self) -> None:
        transfer = Transfer(self._patience)
        try:
            while (found := self._next_job()) is not None:
                job, url = found
                try:
                    self._from_address(job, url, transfer)
                finally:
                    self._release(job, host_of(url))
        except Interrupted:
            pass
        except BaseException as error:
            self._failure = error
        finally:
            with self._changed:
                self._changed.notify_all()

    def _next_job(self) -> tuple[_Job, str] | None:
        """Wait for a file whose next address is on a host that is free; None when all have ended."""
        with self._changed:
            while not self._stop.is_set() and not self._failure:
                open_jobs = [job for job in self._jobs if not job.ended]
                if not open_jobs:
                    return None
                for job in open_jobs:
                    host = host_of(job.urls[0])
                    if not job.in_work and host not in self._busy:
                        self._busy.add(host)
                        job.in_work = True
                        return job, job.urls[0]
                self._changed.wait(_TICK)
        return None

    def _release(self, job: _Job, host: str) -> None:
        with self._changed:
            self._busy.discard(host)
            job.in_work = False
            if job.path is None and not self._stop.is_set():
                job.urls.pop(0)
                job.progress = replace(job.progress, state="queued")
            if job.path is not None or not job.urls:
                job.ended = True
                job.progress = replace(job.progress, state="checking" if job.path else "failed")
            self._changed.notify_all()

    def _from_address(self, job: _Job, url: str, transfer: Transfer) -> None:
        """Bring a file from one address, with all the tries that it deserves."""
        partial = Partial(self._folder, job.wanted)
        try:
            reason = self._tries(job, url, transfer, partial)
            if reason:
                job.reasons.append(f"{shown_url(url)}: {reason}")
            else:
                job.path, job.hashes = partial.path, partial.hashes()
        finally:
            partial.close()

    def _tries(self, job: _Job, url: str, transfer: Transfer, partial: Partial) -> str:
        """Return why the address is given up; empty when the file is here and right."""
        failures = 0
        began_again = False
        while True:
            began_with = partial.size
            try:
                if job.wanted.size is None or partial.size != job.wanted.size:
                    transfer.bring(job.wanted, url, partial, self._teller(job, url))
                fault = partial.fault()
                if not fault:
                    return ""
                was_mixed = partial.sources != [url] or began_with > 0
                partial.start_over()
                if not was_mixed or began_again:
                    return fault
                # Some of the bytes came from elsewhere, or at another time: once more, all from here.
                began_again = True
                self._pause(job, "the partial download was wrong; starting again")
            except AddressFails as error:
                return str(error)
            except TryAgain as error:
                failures = 0 if partial.size > began_with else failures + 1
                if failures >= self._patience.tries:
                    return f"{error}, {failures} times"
                if error.asked is not None and error.asked > self._patience.most_asked:
                    return f"{error}, and asks to wait {error.asked:.0f} s"
                self._wait(job, error, failures)

    def _teller(self, job: _Job, url: str) -> Callable[[int, int | None], None]:
        host = host_of(url) or "this machine"

        def arrived(done: int, total: int | None) -> None:
            if self._stop.is_set():
                raise Interrupted("stopped")
            self._show(
                job,
                replace(
                    job.progress,
                    state="fetching",
                    done=done,
                    total=total or job.wanted.size,
                    words=host,
                ),
            )

        return arrived

    def _wait(self, job: _Job, error: TryAgain, failures: int) -> None:
        """Wait as long as the site asked, else longer with each failure; count down meanwhile."""
        patience = self._patience
        growing = min(patience.longest_wait, patience.first_wait * 2.0 ** max(0, failures - 1))
        seconds = error.asked if error.asked is not None else growing
        who = "the site asked to wait" if error.asked is not None else str(error)
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            self._pause(job, f"again in {left:.0f} s: {who}")
            if self._stop.wait(min(_TICK, left)):
                raise Interrupted("stopped")

    def _pause(self, job: _Job, words: str) -> None:
        self._show(job, replace(job.progress, state="waiting", words=words))

    def _show(self, job: _Job, progress: FileProgress) -> None:
        job.progress = progress
        self._listen(FetchProgress(files=tuple(each.progress for each in self._jobs)))
