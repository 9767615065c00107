"""Making the state of a pack that adopts a game."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator, Sequence

from rellum.core.folder.content import Laid
from rellum.core.folder.identity import Identity
from rellum.core.folder.listing import FolderEntry, stamp_row
from rellum.core.folder.stamps import join_rows
from rellum.core.hashing import Digest
from rellum.core.pack.checkpoints import Checkpoints
from rellum.core.pack.home import PackHome, pack_texts
from rellum.core.pack.schema import SCHEMA, SCHEMA_2, SCHEMA_3, SCHEMA_VERSION, spelling_rows
from rellum.core.pack.state import LAID_MARKS, Adopted, file_row, laid_row, now
from rellum.core.paths import GAME


def create_state(
    home: PackHome,
    adopted: Adopted,
    identity: Identity,
    entries: Sequence[FolderEntry],
    digests: dict[str, Digest],
    marker: Laid,
) -> None:
    """Write a new state: whole under its final name, or not at all. Raises OSError, sqlite3.Error."""
    unfinished = home.state_file + ".new"
    if os.path.exists(unfinished):
        os.unlink(unfinished)
    connection = sqlite3.connect(unfinished)
    try:
        connection.executescript(
            f"{SCHEMA} {SCHEMA_2} {SCHEMA_3} PRAGMA user_version = {SCHEMA_VERSION};"
        )
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
            connection.executemany(
                "INSERT INTO baseline VALUES (?, ?, ?, ?, ?, ?, ?)",
                (
                    (e.path, e.kind, e.size, digests.get(e.path, ""), e.mode, e.mtime_ns, e.target)
                    for e in entries
                ),
            )
            connection.executemany(
                "INSERT OR IGNORE INTO spelling VALUES (?, ?)",
                spelling_rows(e.path for e in entries),
            )
            Checkpoints(connection).put_in_force(pack_texts(home))
            connection.execute(f"INSERT INTO laid VALUES ({LAID_MARKS})", laid_row(marker))
            connection.executemany("INSERT INTO stamp VALUES (?, ?)", _all_stamps(entries, marker))
    finally:
        connection.close()
    os.replace(unfinished, home.state_file)


def _all_stamps(entries: Sequence[FolderEntry], marker: Laid) -> Iterator[tuple[str, bytes]]:
    content = marker.content
    assert content is not None
    rows: dict[str, list[str]] = {GAME: [file_row(marker.path, content)]}
    for entry in entries:
        folder, _, name = entry.path.rpartition("/")
        rows.setdefault(folder, []).append(stamp_row(entry, name))
        if entry.kind == "folder":
            rows.setdefault(entry.path, [])
    return ((folder, join_rows(each)) for folder, each in rows.items())
