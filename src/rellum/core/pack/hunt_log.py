"""The log of a hunt that is under way: ``.rellum/hunt.jsonl``, one JSON text a line, only ever added to.

First how the hunt was begun; then for each round what is asked, on disk before anything is laid, and what was
answered. All else is replayed from it. It is gone when the hunt ends.
"""

from __future__ import annotations

import json
import os
from typing import NamedTuple

from rellum.core.durable import flush, write_durably
from rellum.core.errors import UserError
from rellum.core.pack.home import PackHome

FORMAT = 1


class HuntFault(UserError):
    """There is no hunt, there is one already, or its log cannot be used."""

    code = "hunt-fault"


class HuntStart(NamedTuple):
    """How a hunt was begun.

    order, needs, likely: the mods in load order, with what each needs and how suspicious it is
    miss, alarm: how often answers are taken to be wrong
    lock_digest: of the line-up's text; ``backup``: the number of the backup of settings and saves
    of_mods: the player's files that a mod had laid
    """

    order: tuple[str, ...]
    needs: dict[str, list[str]]
    likely: dict[str, float]
    miss: float
    alarm: float
    lock_digest: str
    backup: int
    of_mods: tuple[str, ...]


class Round(NamedTuple):
    """One round: the mods that were laid, and the answer; an empty one where it is still open."""

    mods: tuple[str, ...]
    answer: str
    note: str = ""


def hunt_file(home: PackHome) -> str:
    """Return where the log lies."""
    return os.path.join(home.state_folder, "hunt.jsonl")


def begin_log(home: PackHome, start: HuntStart) -> None:
    """Begin a log. Raises HuntFault where there is one, OSError."""
    refuse_second(home)
    write_durably(hunt_file(home), _line({"format": FORMAT, "start": start._asdict()}))


def refuse_second(home: PackHome) -> None:
    """Refuse to begin a second hunt. Raises HuntFault."""
    if os.path.exists(hunt_file(home)):
        raise HuntFault(
            "a hunt is under way already",
            hint="'rellum hunt' goes on with it; 'rellum hunt --stop' gives it up.",
        )


def read_log_of_hunt(home: PackHome) -> tuple[HuntStart, list[Round]]:
    """Read the log. Raises HuntFault."""
    try:
        with open(hunt_file(home), encoding="utf-8") as file:
            lines = [json.loads(line) for line in file if line.endswith("\n")]
        if lines[0]["format"] != FORMAT:
            raise HuntFault(
                "the hunt was begun by another Rellum",
                hint="Give it up with 'rellum hunt --stop', and begin again.",
            )
        start = HuntStart(**lines[0]["start"])
        rounds: list[Round] = []
        for line in lines[1:]:
            if "asked" in line:
                rounds.append(Round(tuple(line["asked"]), ""))
            else:
                rounds[-1] = rounds[-1]._replace(answer=line["answer"], note=line.get("note", ""))
    except FileNotFoundError:
        raise HuntFault("no hunt is under way", hint="'rellum hunt' begins one.") from None
    except (ValueError, KeyError, IndexError, TypeError) as error:
        raise HuntFault(
            f"the log of the hunt is damaged: {hunt_file(home)}",
            hint="Give it up with 'rellum hunt --stop', and begin again.",
        ) from error
    return start._replace(order=tuple(start.order), of_mods=tuple(start.of_mods)), rounds


def note_asked(home: PackHome, mods: list[str]) -> None:
    """Note, durably, what is laid next."""
    _append(home, {"asked": mods})


def note_answer(home: PackHome, answer: str, note: str = "") -> None:
    """Note, durably, what was answered."""
    _append(home, {"answer": answer, "note": note})


def end_log(home: PackHome) -> None:
    """Remove the log: the hunt is over."""
    os.unlink(hunt_file(home))


def _append(home: PackHome, record: dict[str, object]) -> None:
    with open(hunt_file(home), "ab") as file:
        file.write(_line(record))
        file.flush()
        flush(file.fileno())


def _line(record: dict[str, object]) -> bytes:
    return json.dumps(record, separators=(",", ":")).encode() + b"\n"
