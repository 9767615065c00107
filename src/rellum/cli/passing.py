"""A line on a terminal that goes again when the work ends."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager


@contextmanager
def passing_line() -> Iterator[Callable[[str], None]]:
    """Give what shows a line on a terminal, and nothing elsewhere; it is wiped at the end."""
    shown = [0]

    def say(text: str) -> None:
        if sys.stderr.isatty():
            print(text, end="", file=sys.stderr, flush=True)
            shown.append(len(text))

    try:
        yield say
    finally:
        if width := max(shown):
            print("\r" + " " * width + "\r", end="", file=sys.stderr, flush=True)
