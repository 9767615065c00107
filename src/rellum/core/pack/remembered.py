"""Answers that are remembered: what a command said, as long as nothing changed of what it looked at.

An answer lies in ``.rellum/answers``: on the first line the mark of all that it was made from, on the second
the hash of its text, then the text. It only spares work. One that is lost, or not as it was written, is
worked out again.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress

from rellum.core.durable import write_in_one
from rellum.core.hashing import hash_bytes
from rellum.core.pack.home import PackHome

Mark = str
"""What stays the same as long as nothing changes: a hash."""


def mark_of(files: Iterable[str], *others: object) -> Mark:
    """Return the mark of files, by what the file system says of them, and of values, by their ``repr``."""
    return hash_bytes(repr((list(map(_stamp, files)), others)).encode("utf-8", "surrogateescape"))


def _stamp(file: str) -> tuple[int, ...]:
    """Return what tells whether a file or a folder's names have changed; -1 where it is not there."""
    try:
        status = os.stat(file)
    except OSError:
        return (-1,)
    return (status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino)


def files_below(folders: Iterable[str]) -> Iterator[str]:
    """Yield all files in some folders, in a steady order."""
    for folder in folders:
        for above, inner, names in os.walk(folder):
            inner.sort()
            yield from (os.path.join(above, name) for name in sorted(names))


def recall(home: PackHome, question: str, mark: Mark) -> str | None:
    """Return the answer to a question, if everything is as it was then."""
    found = recall_bytes(home, question, mark)
    return None if found is None else found.decode("utf-8")


def recall_bytes(home: PackHome, question: str, mark: Mark) -> bytes | None:
    """Return an answer that is not a text, if everything is as it was then."""
    try:
        with open(_file(home, question), "rb") as file:
            before, digest, text = file.read().split(b"\n", 2)
    except (OSError, ValueError):
        return None
    if before.decode("ascii", "replace") != mark or digest.decode("ascii", "replace") != hash_bytes(
        text
    ):
        return None
    return text


def remember(home: PackHome, question: str, mark: Mark, text: str) -> None:
    """Remember an answer, where the pack's folder can be written."""
    remember_bytes(home, question, mark, text.encode("utf-8"))


def remember_bytes(home: PackHome, question: str, mark: Mark, content: bytes) -> None:
    """Remember an answer that is not a text."""
    with suppress(OSError):
        os.makedirs(os.path.dirname(_file(home, question)), exist_ok=True)
        head = f"{mark}\n{hash_bytes(content)}\n".encode("ascii")
        write_in_one(_file(home, question), head + content)


def _file(home: PackHome, question: str) -> str:
    return os.path.join(home.state_folder, "answers", question)
