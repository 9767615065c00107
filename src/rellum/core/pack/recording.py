"""What a change makes of the state beside the laid files; each a part of the transaction that records it."""

from __future__ import annotations

import json
import sqlite3
from typing import TYPE_CHECKING

from rellum.core.folder.stamps import join_rows, split_rows
from rellum.core.pack.checkpoints import IDENTITY_COLUMNS
from rellum.core.pack.rows import file_row, row_of
from rellum.core.pack.schema import spelling_rows
from rellum.core.paths import PlacePath, is_in_game

if TYPE_CHECKING:
    from rellum.core.pack.state import State, StateChange


def record_baseline(db: sqlite3.Connection, change: StateChange) -> None:
    """Note what the game is now, where a change says that it is another."""
    for path, row in change.baseline:
        db.execute("DELETE FROM baseline WHERE path = ?", (path,))
        db.execute("DELETE FROM spelling WHERE path = ?", (path,))
        if row is not None:
            db.execute("INSERT INTO baseline VALUES (?, ?, ?, ?, ?, ?, ?)", row)
            db.executemany("INSERT OR IGNORE INTO spelling VALUES (?, ?)", spelling_rows([path]))
    if change.identity:
        db.execute(
            f"UPDATE adopted SET ({IDENTITY_COLUMNS}) = (?, ?, ?, ?, ?, ?)",
            json.loads(change.identity),
        )


def update_own_folders(db: sqlite3.Connection, change: StateChange) -> None:
    """Note which folders Rellum made, and which of them are gone."""
    for table_change, folders in (
        ("INSERT OR REPLACE INTO own_folder VALUES (?)", change.new_folders),
        ("DELETE FROM own_folder WHERE path = ?", change.gone_folders),
    ):
        db.executemany(table_change, [(path,) for path in folders])


def update_stamps(state: State, db: sqlite3.Connection, change: StateChange) -> None:
    """Bring the stamps of the folders that the change touched up to date, and no others."""
    rows: dict[str, dict[str, str | None]] = {}

    def note(path: PlacePath, row: str | None) -> None:
        if is_in_game(path):
            folder, _, name = path.rpartition("/")
            rows.setdefault(folder, {})[name] = row

    for laid in change.laid:
        note(laid.path, file_row(laid.path, laid.content) if laid.content else None)
    changed = [PlacePath(path) for path, _ in change.baseline]
    laid_now = {laid.path for laid in change.laid}
    bare = {*change.no_longer_laid, *changed} - laid_now
    bare -= state.laid(changed).keys() - set(change.no_longer_laid)
    vanilla = state.baseline(bare)
    for path in bare:
        entry = vanilla.get(path)
        note(path, row_of(entry) if entry else None)
    for path in change.gone_folders:
        note(path, None)
        db.execute("DELETE FROM stamp WHERE folder = ?", (path,))
    for path in change.new_folders:
        note(path, path.rpartition("/")[2] + "/")
        if is_in_game(path):
            rows.setdefault(path, {})
    for folder, changes in rows.items():
        if folder in change.gone_folders:
            continue
        found = db.execute("SELECT rows FROM stamp WHERE folder = ?", (folder,)).fetchone()
        by_name = {row.partition("/")[0]: row for row in split_rows(found[0] if found else b"")}
        for name, new_row in changes.items():
            by_name.pop(name, None)
            if new_row is not None:
                by_name[name] = new_row
        db.execute(
            "INSERT OR REPLACE INTO stamp VALUES (?, ?)", (folder, join_rows(by_name.values()))
        )
