"""What an action is asked for, wherever that comes from: a command, a test, another program."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.progress import Listener, silent

if TYPE_CHECKING:
    from rellum.core.change.recover import Recovered
    from rellum.core.pack.disk import Disk


OnRecovered = Callable[["Recovered"], None]


def unheard(_: Recovered) -> None:
    """Let nobody hear that an interrupted change was ended."""


class Request(NamedTuple):
    """The pack that an action works on, and how it speaks with whoever asked for it.

    shelf_folder: where archives are kept; empty where the action needs none
    on_recovered: hears of an interrupted change that was ended first
    listen: hears of progress
    disk: through which the game and the pack are written; None: the machine's own
    even_if_running: the game may be in use while it changes
    follows: a version of a feed is being taken over, which is not to be ended first
    """

    pack_folder: str
    shelf_folder: str = ""
    on_recovered: OnRecovered = unheard
    listen: Listener = silent
    disk: Disk | None = None
    even_if_running: bool = False
    follows: bool = False
