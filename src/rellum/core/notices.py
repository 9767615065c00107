"""What a person should hear beside the answer: said once, after the command's own output."""

from __future__ import annotations

from typing import NamedTuple


class Notice(NamedTuple):
    """A sentence; ``is_warning``: something is not as it should be."""

    text: str
    is_warning: bool


_noted: dict[Notice, None] = {}


def note(text: str) -> None:
    """Note a warning for the end of the command; the same one counts once."""
    _noted[Notice(text, True)] = None


def inform(text: str) -> None:
    """Note something that is as it should be, and good to know."""
    _noted[Notice(text, False)] = None


def is_quiet() -> bool:
    """Whether nothing was noted."""
    return not _noted


def take_all() -> tuple[Notice, ...]:
    """Return what was noted, and forget it."""
    found = tuple(_noted)
    _noted.clear()
    return found
