"""Opening a pack's state: its checks, and its form."""

from __future__ import annotations

import os
import sqlite3

from rellum.core.database import Seal, is_read_only, open_in_memory
from rellum.core.pack.home import PackHome
from rellum.core.pack.lost_state import StateFault, damaged, lost_state, not_adopted
from rellum.core.pack.schema import SCHEMA_VERSION, upgrade
from rellum.core.pack.state import State


def open_state(home: PackHome) -> State:
    """Open a pack's state. Raises StateFault."""
    if not os.path.isfile(home.state_file):
        raise lost_state(home) or not_adopted(home)
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
        raise lost_state(home) or not_adopted(home)
    read_only = home.state_folder if is_read_only(home.state_folder) else ""
    return State(connection, seal, read_only)


def _connect(home: PackHome) -> sqlite3.Connection:
    if is_read_only(home.state_folder):
        return open_in_memory(home.state_file)
    connection = sqlite3.connect(home.state_file, timeout=10)
    connection.execute("PRAGMA synchronous = FULL")
    return connection
