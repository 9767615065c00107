"""What a person should hear beside the answer: said once, after the command's own output."""

from __future__ import annotations

_noted: dict[str, None] = {}


def note(text: str) -> None:
    """Note a sentence for the end of the command; the same one counts once."""
    _noted[text] = None


def take_all() -> tuple[str, ...]:
    """Return what was noted, and forget it."""
    found = tuple(_noted)
    _noted.clear()
    return found
