"""What may be said last of a command: that nothing was changed, that it is done, or that it is begun.

Whoever writes says so here; the edge, which meets errors that nobody foresaw, asks.
"""

from __future__ import annotations

from enum import Enum


class Standing(Enum):
    """How far a command has come."""

    UNTOUCHED = "nothing was changed"
    PARTLY = "something was written, and stays"
    BEGUN = "a change of the game is begun, and neither done nor taken back"
    DONE = "a change of the game is done"


_standing = Standing.UNTOUCHED


def standing() -> Standing:
    """Return how far this command has come."""
    return _standing


def say(now: Standing) -> None:
    """Say that a change of the game is begun, done, or (untouched) taken back."""
    global _standing
    _standing = now


def wrote() -> None:
    """Say that something was written which stays, whatever comes of the rest."""
    if _standing is Standing.UNTOUCHED:
        say(Standing.PARTLY)
