"""The edge of the program: only here do errors become messages and exit statuses."""

from __future__ import annotations

import atexit
import gc
import os
import sys
from collections.abc import Callable, Sequence

from rellum.cli import console
from rellum.cli.read_ahead import read_ahead
from rellum.core.errors import RellumError, Stopped
from rellum.core.last_word import Standing, standing
from rellum.core.notices import take_all

CLOSED = 141
"""Exit status where what reads the output has gone, as a shell reports it."""


def main() -> int:
    """Run the command line and return its exit status, as docs/errors.md lists them."""
    # A command is over in a moment: looking for garbage every 700 objects, as is usual, is a tenth of
    # the time to start, and each look walks through all of a large catalog and finds next to none: a
    # third of the time to resolve one of 10,000 mods. Memory stays bounded all the same.
    gc.set_threshold(20_000_000)
    # Nor is there one at the end, when all memory goes back anyway: that was an eighth of such a command.
    atexit.register(gc.freeze)
    console.prepare_streams()
    try:
        try:
            words = sys.argv[1:]
            read_ahead(words)
            from rellum.cli.app import run

            status = _run(lambda: run(words))
        except KeyboardInterrupt:  # before the command began, or after it had ended
            console.show_error("stopped", (), "")
            status = Stopped.exit_status
        finally:
            for notice in take_all():
                console.warn(notice.text) if notice.is_warning else console.note(notice.text)
        sys.stdout.flush()
        return status
    except (BrokenPipeError, console.OutputGone):
        # Nobody reads any more. What Python would still flush at the end goes nowhere.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return CLOSED


def _run(call: Callable[[], int]) -> int:
    """Run the call and turn its errors into words, and documents for programs."""
    try:
        return call()
    except RellumError as error:
        return _tell(error.code, error.summary, error.details, error.hint, error.exit_status, error)
    except (BrokenPipeError, console.OutputGone):
        raise
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        return _unforeseen(f"{where}{error.strerror or error}", "Fix that and try again.")
    except UnicodeEncodeError as error:
        around = error.object[max(0, error.start - 40) : error.end + 20]
        return _unforeseen(f"a name is no Unicode text: {around!a}", "Rename it.")
    except OverflowError as error:
        if "SQLite" not in str(error):
            raise
        return _unforeseen(
            "a file has a date after the year 2262, which cannot be recorded",
            "Give it another date; 'find GAME-FOLDER -newermt 2262-01-01' lists such files.",
        )
    except Exception as error:
        from sqlite3 import Error as DatabaseError  # only now: not every command needs a database

        if not isinstance(error, DatabaseError):
            raise
        return _unforeseen(
            f"cannot use a database of the pack or the shelf: {error}",
            "Is its disk full, or was the file damaged?",
        )


def _tell(
    code: str,
    summary: str,
    details: Sequence[str],
    hint: str,
    status: int,
    error: RellumError | None = None,
) -> int:
    """Say what is wrong, to people and, where one was wanted, in a document; return the exit status."""
    if console.wants_json():
        told: dict[str, object] = {
            "code": code,
            "summary": summary,
            "details": list(details),
            "hint": hint,
            "status": status,
            **(error.facts() if error else {}),
        }
        console.say_json({"error": told})
    console.show_error(summary, details, hint)
    return status


_LAST_WORDS = {
    Standing.UNTOUCHED: (2, "Nothing was changed. {}"),
    Standing.PARTLY: (4, "What was written before that stays. {}"),
    Standing.BEGUN: (
        4,
        "A change has begun; the next Rellum command on this pack continues it. {}",
    ),
    Standing.DONE: (0, "The change itself is done. {}"),
}


def _unforeseen(summary: str, hint: str) -> int:
    """Say what failed, and how far the command had come; return the exit status."""
    status, words = _LAST_WORDS[standing()]
    if not status:
        console.warn(f"{summary}. {words.format(hint)}")
        return status
    return _tell("system-error", summary, (), words.format(hint), status)
