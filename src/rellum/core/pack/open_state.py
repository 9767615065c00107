"""Opening a pack's state: its checks, and its form."""

from __future__ import annotations

import os
import sqlite3

from rellum.core.database import Seal, is_read_only, open_in_memory
from rellum.core.pack.home import PackHome
from rellum.core.pack.marker import marked_pack
from rellum.core.pack.schema import SCHEMA_VERSION, upgrade
from rellum.core.pack.state import State, StateFault, damaged, game_named, rebuild_command


def open_state(home: PackHome) -> State:
    """Open a pack's state. Raises StateFault."""
    if not os.path.isfile(home.state_file):
        raise lost_state(home) or _not_adopted(home)
    seal = Seal(home.state_file)
    try:
        connection = _connect(home)
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        adopted = version and connection.execute("SELECT count(*) FROM adopted").fetchone()[0]
        if (version != SCHEMA_VERSION or not adopted) and seal.is_broken():
            raise damaged(home, "it is not as Rellum left it")
        if adopted and version < SCHEMA_VERSION:
            upgrade(connection, version)
    except (sqlite3.Error, UnicodeDecodeError) as error:  # the latter for damaged names of tables
        raise damaged(home, str(error)) from error
    if version > SCHEMA_VERSION:
        raise StateFault(
            f"{home.state_file} was written by a newer Rellum (schema {version})",
            hint="Update Rellum.",
        )
    if not adopted:
        raise lost_state(home) or _not_adopted(home)
    read_only = home.state_folder if is_read_only(home.state_folder) else ""
    return State(connection, seal, read_only)


def lost_state(home: PackHome, game: str = "") -> StateFault | None:
    """Return the error to raise where a pack without a state had one; None where nothing tells of one.

    ``game`` is the game folder, where rellum.toml need not name it.
    """
    game = game or game_named(home)
    kept = [home.vanilla_file, home.journal_file, home.waiting_store]
    if os.path.isdir(home.originals_folder):
        kept += [home.originals_folder] if os.listdir(home.originals_folder) else []
    is_marked = bool(game) and marked_pack(game) == home.folder
    if not is_marked and not any(map(os.path.exists, kept)):
        return None
    return StateFault(
        f"the state of the pack {home.folder} is lost: {home.state_file} is not there",
        hint=f"Nothing was changed. '{rebuild_command(game)}' makes a new one from the second copy of the "
        "baseline, the line-up, the shelf and the game folder.",
    )


def _not_adopted(home: PackHome) -> StateFault:
    """Return the error to raise for a pack without a state: its line-up may have come with a copy of it."""
    if os.path.exists(home.lock_file):
        return StateFault(
            f"the pack {home.folder} has a line-up, but no state: {home.state_file} is not there",
            hint="Give it a game that has none of its mods: 'rellum adopt GAME-FOLDER'.",
        )
    return StateFault(
        f"the pack {home.folder} has not adopted a game yet",
        hint="Start with 'rellum adopt GAME-FOLDER'.",
    )


def _connect(home: PackHome) -> sqlite3.Connection:
    if is_read_only(home.state_folder):
        return open_in_memory(home.state_file)
    connection = sqlite3.connect(home.state_file, timeout=10)
    connection.execute("PRAGMA synchronous = FULL")
    return connection
