"""What a change makes of the state beside the laid files; each a part of the transaction that records it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Protocol

from rellum.core.folder.stamps import join_rows, split_rows
from rellum.core.pack.checkpoints import IDENTITY_COLUMNS
from rellum.core.pack.rows import BaselineEntry, file_row, row_of
from rellum.core.pack.schema import spelling_rows
from rellum.core.values.content import Content, Laid
from rellum.core.values.paths import GAME, PlacePath, is_in_game

if TYPE_CHECKING:
    from rellum.core.pack.state_change import StateChange


class Rows(Protocol):
    """The rows of an open state, as far as the stamps depend on them."""

    def laid(self, paths: Iterable[PlacePath]) -> dict[PlacePath, Laid]: ...
    def laid_below(self, folder: PlacePath) -> dict[PlacePath, Laid]: ...
    def baseline(self, paths: Iterable[PlacePath]) -> dict[PlacePath, BaselineEntry]: ...


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


def learn_vanilla(db: sqlite3.Connection, contents: Mapping[PlacePath, Content]) -> None:
    """Note what vanilla files are that were known by their hash alone, in the stamps as well."""
    for path, content in contents.items():
        db.execute(
            "UPDATE baseline SET (digest, size, mode, mtime_ns) = (?, ?, ?, ?) WHERE path = ?",
            (content.digest, content.size, content.mode, content.mtime_ns, path),
        )
        if db.execute("SELECT 1 FROM laid WHERE path = ?", (path,)).fetchone() is None:
            folder, _, name = path.rpartition("/")
            _change_stamp(db, folder, {name: file_row(path, content)})


def update_own_folders(db: sqlite3.Connection, change: StateChange) -> None:
    """Note which folders Rellum made, and which of them are gone."""
    for table_change, folders in (
        ("INSERT OR REPLACE INTO own_folder VALUES (?)", change.new_folders),
        ("DELETE FROM own_folder WHERE path = ?", change.gone_folders),
    ):
        db.executemany(table_change, [(path,) for path in folders])


def update_stamps(state: Rows, db: sqlite3.Connection, change: StateChange) -> None:
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
    # A folder in which something of a mod's is left stays, and so does what is known of it.
    gone = {path for path in change.gone_folders if not state.laid_below(path)}
    for path in gone:
        note(path, None)
        db.execute("DELETE FROM stamp WHERE folder = ?", (path,))
    for path in change.new_folders:
        note(path, path.rpartition("/")[2] + "/")
        if is_in_game(path):
            rows.setdefault(path, {})
    for folder, changes in rows.items():
        if folder not in gone:
            _change_stamp(db, folder, changes)


def _change_stamp(db: sqlite3.Connection, folder: str, changes: Mapping[str, str | None]) -> None:
    """Put rows into a folder's stamp, by name; None takes one out."""
    found = db.execute("SELECT rows FROM stamp WHERE folder = ?", (folder,)).fetchone()
    by_name = {row.partition("/")[0]: row for row in split_rows(found[0] if found else b"")}
    for name, new_row in changes.items():
        by_name.pop(name, None)
        if new_row is not None:
            by_name[name] = new_row
    if by_name or _is_known(db, folder):
        stamp = (folder, join_rows(by_name.values()))
        db.execute("INSERT OR REPLACE INTO stamp VALUES (?, ?)", stamp)
    else:  # somebody else's folder, in which nothing of the game's or a mod's is left
        db.execute("DELETE FROM stamp WHERE folder = ?", (folder,))


def _is_known(db: sqlite3.Connection, folder: str) -> bool:
    """Whether a folder is the game's or Rellum's."""
    row = db.execute(
        "SELECT 1 FROM own_folder WHERE path = ?1 UNION ALL SELECT 1 FROM baseline WHERE path = ?1",
        (folder,),
    ).fetchone()
    return row is not None or folder == GAME
