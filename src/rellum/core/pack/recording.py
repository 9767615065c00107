"""What a change makes of the state beside the laid files; each a part of the transaction that records it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Protocol

from rellum.core.folder.stamps import join_rows, split_rows
from rellum.core.pack.folder_rules import LAID_SINCE
from rellum.core.pack.rows import (
    IDENTITY_COLUMNS,
    LAID_MARKS,
    BaselineEntry,
    file_row,
    laid_row,
    row_of,
)
from rellum.core.pack.schema import spelling_rows
from rellum.core.values.content import Content, Laid
from rellum.core.values.paths import GAME, PlacePath, is_in_game

if TYPE_CHECKING:
    from rellum.core.pack.change_log import ChangeLog
    from rellum.core.pack.checkpoints import Checkpoints
    from rellum.core.pack.kept_copies import KeptCopies
    from rellum.core.pack.state_change import StateChange


class Rows(Protocol):
    """The rows of an open state, as far as recording a change depends on them."""

    @property
    def checkpoints(self) -> Checkpoints: ...
    @property
    def changes(self) -> ChangeLog: ...
    @property
    def kept(self) -> KeptCopies: ...
    def laid(self, paths: Iterable[PlacePath]) -> Mapping[PlacePath, Laid]: ...
    def laid_below(self, folder: PlacePath) -> dict[PlacePath, Laid]: ...
    def baseline(self, paths: Iterable[PlacePath]) -> dict[PlacePath, BaselineEntry]: ...


def record_change(state: Rows, db: sqlite3.Connection, change: StateChange, moment: str) -> bool:
    """Note all that a change made of the state; return whether old checkpoints went for it."""
    gone = [(path,) for path in change.no_longer_laid]
    has_forgotten = state.checkpoints.note(change, moment)
    _record_baseline(db, change)
    db.executemany("DELETE FROM laid WHERE path = ?", gone)
    db.executemany(f"INSERT OR REPLACE INTO laid VALUES ({LAID_MARKS})", map(laid_row, change.laid))
    if gone or change.laid:
        db.execute("INSERT OR REPLACE INTO note VALUES (?, '1')", (LAID_SINCE,))
    state.kept.add(change.kept, change.action, moment)
    state.kept.forget_returned(change.returned)
    state.kept.forget(change.kept_gone)
    unsure = ((path,) for path in change.unsure)
    db.executemany("INSERT OR REPLACE INTO unsure VALUES (?)", unsure)
    db.executemany("DELETE FROM unsure WHERE path = ?", _touched(change))
    db.executemany("DELETE FROM suspect WHERE path = ?", _touched(change))
    db.executemany(
        "INSERT OR REPLACE INTO suspect VALUES (?, ?, ?)", _unlike_vanilla(state, change)
    )
    if change.guarded is not None:
        db.execute("DELETE FROM guarded")
        db.executemany("INSERT INTO guarded VALUES (?, ?)", change.guarded)
    db.executemany("INSERT OR REPLACE INTO outside VALUES (?, ?)", change.outside)
    _update_own_folders(db, change)
    _update_stamps(state, db, change)
    state.changes.add(change, moment)
    return has_forgotten


def _touched(change: StateChange) -> list[tuple[PlacePath]]:
    """Return the paths that a change put into order, whatever was noted of them."""
    paths = {path for path, _ in change.before.files}
    paths |= {PlacePath(path) for path, _ in change.baseline}
    return [(path,) for path in paths if path not in change.unsure]


def _unlike_vanilla(state: Rows, change: StateChange) -> Iterator[tuple[PlacePath, int, int]]:
    """Yield what came back to paths of vanilla files and only looks like them, by size and time."""
    vanilla = state.baseline(path for path, _ in change.stands)
    for path, content in change.stands:
        entry = vanilla.get(path)
        native = entry.content if entry else None
        if native is None or native.digest == content.digest:
            continue
        if (native.size, native.mtime_ns) == (content.size, content.mtime_ns):
            yield path, content.size, content.mtime_ns


def _record_baseline(db: sqlite3.Connection, change: StateChange) -> None:
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


def _update_own_folders(db: sqlite3.Connection, change: StateChange) -> None:
    """Note which folders Rellum made, and which of them are gone."""
    for table_change, folders in (
        ("INSERT OR REPLACE INTO own_folder VALUES (?)", change.new_folders),
        ("DELETE FROM own_folder WHERE path = ?", change.gone_folders),
    ):
        db.executemany(table_change, [(path,) for path in folders])


def _update_stamps(state: Rows, db: sqlite3.Connection, change: StateChange) -> None:
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
