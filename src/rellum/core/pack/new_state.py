"""Making the state of a pack that adopts a game."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import suppress

from rellum.core.database import SEAL
from rellum.core.durable import write_durably
from rellum.core.folder.identity import Identity
from rellum.core.folder.stamps import join_rows
from rellum.core.pack.checkpoints import Checkpoints
from rellum.core.pack.home import PackHome, pack_texts
from rellum.core.pack.lost_state import StateFault
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.open_state import open_state
from rellum.core.pack.rows import LAID_MARKS, file_row, laid_row
from rellum.core.pack.schema import (
    SCHEMA,
    SCHEMA_2,
    SCHEMA_3,
    SCHEMA_4,
    spelling_rows,
    upgrade,
)
from rellum.core.pack.state import Adopted, State, now
from rellum.core.values.content import Laid
from rellum.core.values.paths import GAME

FORMAT = 1

BaselineRow = tuple[str, str, int, str, int, int, str]
"""A row of the table ``baseline``: path, kind, size, digest, mode, time (ns), target of a link."""


def create_from_rows(
    home: PackHome,
    adopted: Adopted,
    identity: Identity,
    rows: Sequence[BaselineRow],
    marker: Laid | None = None,
    players: Sequence[BaselineRow] = (),
) -> None:
    """Write a new state: whole under its final name, or not at all. Raises OSError, sqlite3.Error.

    ``marker`` is one that lies in the game already; ``players`` are the player's files, which are no vanilla.
    """
    unfinished = home.state_file + ".new"
    if os.path.exists(unfinished):
        os.unlink(unfinished)
    connection = sqlite3.connect(unfinished)
    try:
        connection.executescript(
            f"{SCHEMA} {SCHEMA_2} {SCHEMA_3} {SCHEMA_4} PRAGMA user_version = 4;"
        )
        upgrade(connection, 4)
        with connection:
            connection.execute(
                "INSERT INTO adopted VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    adopted.pack_id,
                    adopted.folder,
                    identity.sheet,
                    identity.name,
                    identity.version.text,
                    identity.edition,
                    json.dumps(identity.expansions),
                    json.dumps(identity.evidence),
                    now(),
                ),
            )
            connection.executemany("INSERT INTO baseline VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
            connection.executemany(
                "INSERT OR IGNORE INTO spelling VALUES (?, ?)",
                spelling_rows(row[0] for row in rows),
            )
            Checkpoints(connection).put_in_force(pack_texts(home))
            if marker:
                connection.execute(f"INSERT INTO laid VALUES ({LAID_MARKS})", laid_row(marker))
            connection.executemany(
                "INSERT INTO stamp VALUES (?, ?)", _all_stamps([*rows, *players], marker)
            )
    finally:
        connection.close()
    os.replace(unfinished, home.state_file)
    state = open_state(home)
    try:
        write_vanilla(home, state)
    finally:
        state.close()


def remove_state(home: PackHome) -> None:
    """Remove the state of a pack whose beginning was taken back. Raises OSError."""
    for file in (home.vanilla_file, home.state_file + SEAL, home.state_file):
        with suppress(FileNotFoundError):
            os.unlink(file)


def write_vanilla(home: PackHome, state: State) -> None:
    """Write the baseline a second time, beside the database.

    It is a second copy: where it cannot be written, what was done stands all the same, and the next
    command tries again.
    """
    import gzip

    lines = (json.dumps(row) for row in state.baseline_rows())
    text = "\n".join((json.dumps([FORMAT, state.identity().version.text]), *lines))
    with suppress(OSError):
        if os.path.exists(home.vanilla_file):
            os.unlink(home.vanilla_file)  # of another version of the game
        write_durably(home.vanilla_file, gzip.compress(text.encode("utf-8"), 1, mtime=0))


def read_vanilla(home: PackHome) -> tuple[str, list[BaselineRow]]:
    """Return the game's version and the rows of the baseline. Raises StateFault."""
    import gzip

    try:
        with open(home.vanilla_file, "rb") as file:
            head, *rows = gzip.decompress(file.read()).decode("utf-8").split("\n")
        [_, version] = json.loads(head)
        return version, [_as_row(*json.loads(row)) for row in rows]
    except (OSError, ValueError, TypeError, EOFError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise StateFault(
            f"the second copy of the baseline cannot be used either: {home.vanilla_file}: {why}",
        ) from error


def _all_stamps(rows: Sequence[BaselineRow], marker: Laid | None) -> Iterator[tuple[str, bytes]]:
    content = marker.content if marker else None
    by_folder: dict[str, list[str]] = {GAME: [file_row(MARKER_PATH, content)] if content else []}
    for path, kind, size, _, _, mtime_ns, target in rows:
        folder, _, name = path.rpartition("/")
        by_folder.setdefault(folder, []).append(stamp_row(name, kind, size, mtime_ns, target))
        if kind == "folder":
            by_folder.setdefault(path, [])
    return ((folder, join_rows(each)) for folder, each in by_folder.items())


def stamp_row(name: str, kind: str, size: int, mtime_ns: int, target: str) -> str:
    """Return the row of a vanilla entry in the stamp of its folder."""
    if kind == "file":
        return f"{name}/{size}/{mtime_ns}"
    return f"{name}/" if kind == "folder" else f"{name}//{target}"


def _as_row(
    path: str, kind: str, size: int, digest: str, mode: int, mtime_ns: int, target: str
) -> BaselineRow:
    return (path, kind, size, digest, mode, mtime_ns, target)
