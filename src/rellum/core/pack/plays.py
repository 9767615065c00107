"""What came of starting the game: a JSON text a line in ``.rellum/plays.jsonl``, with the end of its log."""

from __future__ import annotations

import json
import os
from typing import NamedTuple

from rellum.core.pack.home import PackHome

FILE = "plays.jsonl"


class Play(NamedTuple):
    """One start of the game. ``at`` is RFC 3339 in UTC, ``seconds`` how long it ran, ``status`` how it ended.

    ``outcome`` is works, breaks, or empty where nobody said; ``word`` what else there was to say.
    """

    number: int
    at: str
    variant: str
    game: str
    releases: tuple[str, ...]
    program: str
    seconds: float
    status: int | None
    outcome: str
    word: str
    log: str


def read_plays(home: PackHome) -> list[Play]:
    """Return all starts, the newest first; a damaged line is passed over."""
    try:
        with open(os.path.join(home.state_folder, FILE), encoding="utf-8") as file:
            lines = file.readlines()
    except FileNotFoundError:
        return []
    found = []
    for line in lines:
        try:
            play = Play(*json.loads(line))
            found.append(play._replace(releases=tuple(play.releases)))
        except (ValueError, TypeError):
            continue
    return found[::-1]


def add_play(home: PackHome, play: Play) -> None:
    """Add a start at the end, durably. Raises OSError."""
    from rellum.core.durable import flush

    with open(os.path.join(home.state_folder, FILE), "ab") as file:
        file.write(json.dumps(play).encode("utf-8", "replace") + b"\n")
        file.flush()
        flush(file.fileno())
