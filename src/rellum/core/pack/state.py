"""The state of a pack: what was adopted, the baseline, and what Rellum last left in the folder.

The tables are described in ``rellum.core.pack.schema``. A change is recorded in one transaction.

The smallest values are named tuples, here and in the modules that every command imports: making the class
takes a quarter of the time, and a dozen such classes are a tenth of the time to start.
"""

from __future__ import annotations

import json
import os
import sqlite3
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, NamedTuple

from rellum.core.database import Seal, refuse
from rellum.core.hashing import Digest
from rellum.core.pack.home import PackHome
from rellum.core.pack.lost_state import damaged
from rellum.core.pack.rows import (
    IDENTITY_COLUMNS,
    BaselineEntry,
    baseline_entry,
    laid_of_row,
)
from rellum.core.values.content import Content, Laid
from rellum.core.values.ids import ModId, ReleaseName, SheetId
from rellum.core.values.paths import PlacePath, is_text

if TYPE_CHECKING:
    from rellum.core.folder.identity import Identity
    from rellum.core.pack.change_log import ChangeLog
    from rellum.core.pack.checkpoints import Checkpoints
    from rellum.core.pack.kept_copies import KeptCopies
    from rellum.core.pack.state_change import StateChange

# Every command opens a state; what only some need of it is imported where it is used.


IDLE = "lay-nothing"
"""The note of releases in the game of which no file is laid: all are hidden, or are as vanilla has them."""


def _home_of(state_file: str) -> PackHome:
    return PackHome(os.path.dirname(os.path.dirname(state_file)))


class Adopted(NamedTuple):
    """What the pack keeps. ``pack_id`` is what the marker in the game folder names."""

    pack_id: str
    folder: str


class Made(NamedTuple):
    """What a recipe gave: its content's hash and size in bytes, and what the maker noted of it."""

    digest: Digest
    size: int
    notes: str = ""


class State:
    """An open state database."""

    def __init__(
        self, connection: sqlite3.Connection, seal: Seal | None = None, read_only: str = ""
    ) -> None:
        """``read_only``: the folder that cannot be written, where this is a copy in memory for that."""
        self._db = connection
        self._seal = seal
        self._read_only = read_only
        self._is_closed = False
        self._laid: tuple[object, Mapping[PlacePath, Laid]] | None = None
        self.has_forgotten = False
        """Whether a change recorded here dropped old checkpoints, and so perhaps contents."""

    @property
    def checkpoints(self) -> Checkpoints:
        """The checkpoints: states that can be gone back to."""
        from rellum.core.pack.checkpoints import Checkpoints

        return Checkpoints(self._db)

    @property
    def changes(self) -> ChangeLog:
        """What was changed when."""
        from rellum.core.pack.change_log import ChangeLog

        return ChangeLog(self._db)

    def close(self) -> None:
        """Close the database, and seal it; once closed, it stays so."""
        if self._is_closed:
            return
        self._is_closed = True
        changed = self._db.total_changes > 0
        self._db.close()
        if self._seal and not self._read_only:
            self._seal.renew(changed=changed)

    def refuse_damaged(self) -> None:
        """Raise StateFault where the database is not as Rellum left it."""
        if self._seal and self._seal.is_broken():
            raise damaged(_home_of(self._seal.file), "it is not as Rellum left it")

    @contextmanager
    def _writing(self) -> Iterator[None]:
        """Write in one transaction. Raises StateFault."""
        self.refuse_damaged()
        with self._db:
            yield

    def refuse_unfit(self) -> None:
        """Raise ReadOnly or StateFault: called before a change, and for what the user decides to keep."""
        self.refuse_damaged()
        if self._read_only:
            raise refuse("the pack", self._read_only)

    def adopted(self) -> Adopted:
        """Return what was adopted."""
        pack_id, folder = self._db.execute("SELECT pack_id, folder FROM adopted").fetchone()
        return Adopted(pack_id=pack_id, folder=folder)

    def is_whole(self) -> bool:
        """Whether the database is whole, by SQLite's own check."""
        try:
            is_sound = self._db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
            return bool(is_sound and not (self._seal and self._seal.is_broken()))
        except sqlite3.Error:
            return False

    def set_folder(self, folder: str) -> None:
        """Note, durably, where the game folder is now."""
        with self._writing():
            self._db.execute("UPDATE adopted SET folder = ?", (folder,))

    def game_version(self) -> str:
        """Return the game's version, as its sheet writes it: all that a backup notes of the game."""
        return str(self._db.execute("SELECT version FROM adopted").fetchone()[0])

    def identity(self) -> Identity:
        """Return what the game was found to be."""
        import json

        from rellum.core.folder.identity import Identity
        from rellum.core.versions.orderings import parse_version

        row = self._db.execute(f"SELECT {IDENTITY_COLUMNS} FROM adopted").fetchone()
        sheet, name, version, edition, expansions, evidence = row
        return Identity(
            sheet=SheetId(sheet),
            name=name,
            version=parse_version(version),
            edition=edition,
            expansions=tuple(json.loads(expansions)),
            evidence=tuple(json.loads(evidence)),
        )

    def baseline(self, paths: Iterable[PlacePath]) -> dict[PlacePath, BaselineEntry]:
        """Return the vanilla entries among these paths."""
        found: dict[PlacePath, BaselineEntry] = {}
        for row in self._select_by_path("baseline", paths):
            entry = baseline_entry(row)
            found[entry.path] = entry
        return found

    def paths_like(self, path: PlacePath) -> list[PlacePath]:
        """Return files of the game and of mods with the same name, in whatever folder and capitals."""
        name = path.rpartition("/")[2]
        query = "SELECT path FROM {} WHERE path LIKE '%/' || ? ESCAPE '~'"
        escaped = name.replace("~", "~~").replace("%", "~%").replace("_", "~_")
        found = {
            row[0]
            for table in ("baseline", "laid")
            for row in self._db.execute(query.format(table), (escaped,))
        }
        return sorted(map(PlacePath, found))

    def baseline_files(self) -> Iterator[BaselineEntry]:
        """Yield every file of the baseline, by path."""
        rows = self._db.execute("SELECT * FROM baseline WHERE kind = 'file' ORDER BY path")
        return (baseline_entry(row) for row in rows)

    def baseline_by_hash(self) -> list[BaselineEntry]:
        """Return the vanilla files that are known by their hash alone."""
        rows = self._db.execute("SELECT * FROM baseline WHERE size < 0 ORDER BY path")
        return [baseline_entry(row) for row in rows]

    def learn(self, contents: Mapping[PlacePath, Content]) -> None:
        """Note what vanilla files are that were known by their hash alone, durably."""
        from rellum.core.pack.recording import learn_vanilla

        with self._writing():
            learn_vanilla(self._db, contents)

    def baseline_rows(self) -> Iterator[tuple[Any, ...]]:
        """Yield the rows of the baseline as they are written."""
        return iter(self._db.execute("SELECT * FROM baseline ORDER BY path"))

    def baseline_below(self, folder: PlacePath) -> dict[PlacePath, BaselineEntry]:
        """Return what lies directly in a folder of the vanilla game, and all below it."""
        rows = self._db.execute(
            "SELECT * FROM baseline WHERE path > ? AND path < ?", (f"{folder}/", f"{folder}0")
        )
        return {entry.path: entry for entry in map(baseline_entry, rows)}

    def laid(self, paths: Iterable[PlacePath] | None = None) -> Mapping[PlacePath, Laid]:
        """Return what Rellum laid: everything, or what of it is among these paths."""
        if paths is None:
            return self._all_laid()
        rows = self._select_by_path("laid", paths)
        return {laid.path: laid for laid in map(laid_of_row, rows)}

    def _all_laid(self) -> Mapping[PlacePath, Laid]:
        """Read what is laid once, as long as nobody writes: a change asks for it five times and more."""
        stamp = (self._db.total_changes, self._db.execute("PRAGMA data_version").fetchone()[0])
        if self._laid is None or self._laid[0] != stamp or self._db.in_transaction:
            rows = self._db.execute("SELECT * FROM laid")
            found = {laid.path: laid for laid in map(laid_of_row, rows)}
            if self._db.in_transaction:  # it may be taken back
                return found
            self._laid = (stamp, found)
        return self._laid[1]

    def laid_by(self, mod: str) -> dict[PlacePath, Laid]:
        """Return what Rellum laid for any release of a mod."""
        rows = self._db.execute("SELECT * FROM laid WHERE mod = ?", (mod,))
        return {laid.path: laid for laid in map(laid_of_row, rows)}

    def laid_with_role(self) -> list[PlacePath]:
        """Return the laid files whose changes are the user's, or are merged with the user's."""
        return [path for (path,) in self._db.execute("SELECT path FROM laid WHERE role != ''")]

    def laid_below(self, folder: PlacePath) -> dict[PlacePath, Laid]:
        """Return what Rellum laid in a folder and all below it."""
        rows = self._db.execute(
            "SELECT * FROM laid WHERE path > ? AND path < ?", (f"{folder}/", f"{folder}0")
        )
        return {laid.path: laid for laid in map(laid_of_row, rows)}

    def laid_outside(self) -> dict[PlacePath, Laid]:
        """Return what Rellum laid outside the game folder."""
        rows = self._db.execute("SELECT * FROM laid WHERE path < '@game/' OR path >= '@game0'")
        return {laid.path: laid for laid in map(laid_of_row, rows)}

    def outside(self) -> dict[str, str]:
        """Return the folders of the places outside the game folder that were ever laid in."""
        return dict(self._db.execute("SELECT root, folder FROM outside"))

    def own_folders(self) -> set[PlacePath]:
        """Return the folders that Rellum made."""
        return {PlacePath(path) for (path,) in self._db.execute("SELECT path FROM own_folder")}

    def releases_laid(self) -> list[ReleaseName]:
        """Return the releases that have something laid."""
        rows = self._db.execute("SELECT DISTINCT mod, version, build FROM laid WHERE mod != ''")
        return [ReleaseName(ModId(mod), version, build) for mod, version, build in rows]

    def releases_in_game(self) -> list[ReleaseName]:
        """Return the releases that have something laid, and those of the last ``apply`` that lay nothing."""
        text = self.note(IDLE)
        idle = [ReleaseName(ModId(mod), *rest) for mod, *rest in json.loads(text)] if text else []
        return [*self.releases_laid(), *idle]

    def note_idle(self, line_up: Iterable[ReleaseName]) -> None:
        """Note which releases of a line-up that was just laid have nothing laid, durably."""
        idle = sorted(set(line_up) - set(self.releases_laid()))
        text = json.dumps(idle) if idle else ""
        if text != self.note(IDLE):
            self.set_note(IDLE, text)

    @property
    def kept(self) -> KeptCopies:
        """The kept copies."""
        from rellum.core.pack.kept_copies import KeptCopies

        return KeptCopies(self._db)

    def forget_kept(self, numbers: Iterable[int]) -> None:
        """Take kept copies off the list, durably. Raises ReadOnly."""
        self.refuse_unfit()
        with self._writing():
            self.kept.forget(numbers)

    def note(self, name: str) -> str:
        """Return what is remembered under a name; an empty text where nothing is."""
        row = self._db.execute("SELECT text FROM note WHERE name = ?", (name,)).fetchone()
        return row[0] if row else ""

    def set_note(self, name: str, text: str) -> None:
        """Remember a text under a name, durably; an empty one is forgotten."""
        with self._writing():
            self._db.execute("DELETE FROM note WHERE name = ?", (name,))
            if text:
                self._db.execute("INSERT INTO note VALUES (?, ?)", (name, text))

    def suspects(self) -> dict[PlacePath, tuple[int, int]]:
        """Return files whose content was found changed under an unchanged size and time, with these."""
        rows = self._db.execute("SELECT path, size, mtime_ns FROM suspect")
        return {PlacePath(path): (size, mtime_ns) for path, size, mtime_ns in rows}

    def set_suspects(self, files: Mapping[PlacePath, tuple[int, int]]) -> None:
        """Remember which files are not to be trusted although size and time are as recorded."""
        with self._writing():
            self._db.execute("DELETE FROM suspect")
            self._db.executemany(
                "INSERT INTO suspect VALUES (?, ?, ?)", ((p, *each) for p, each in files.items())
            )

    def unsure(self) -> set[PlacePath]:
        """Return new files of an update that may be the game's own."""
        return {PlacePath(path) for (path,) in self._db.execute("SELECT path FROM unsure")}

    def spellings(self, folded: Iterable[str]) -> dict[str, PlacePath]:
        """Return how vanilla paths with capitals are spelt, by the path without."""
        return dict(self._select("spelling", "folded", folded))

    def made(self, recipe: str) -> Made | None:
        """Return what a recipe gave when it was last followed."""
        row = self._db.execute(
            "SELECT digest, size, notes FROM made WHERE recipe = ?", (recipe,)
        ).fetchone()
        return row and Made(digest=Digest(row[0]), size=row[1], notes=row[2])

    def notes_of(self, digest: Digest) -> str:
        """Return what the maker noted of a content; nothing where it was not made."""
        row = self._db.execute(
            "SELECT notes FROM made WHERE digest = ? AND notes != ''", (digest,)
        ).fetchone()
        return row[0] if row else ""

    def remember_made(self, made: Mapping[str, Made]) -> None:
        """Note what recipes gave: only a shortcut, which nothing depends on."""
        with self._writing():
            self._db.executemany(
                "INSERT OR REPLACE INTO made VALUES (?, ?, ?, ?)",
                [(recipe, each.digest, each.size, each.notes) for recipe, each in made.items()],
            )

    def guarded(self) -> dict[PlacePath, int]:
        """Return the files that are guarded, with the mode that each had before."""
        return dict(self._db.execute("SELECT path, mode FROM guarded"))

    def set_absorbing(self, files: Mapping[PlacePath, Digest]) -> None:
        """Note which vanilla files have copies, durably. Raises ReadOnly."""
        self.refuse_unfit()
        with self._writing():
            self._db.execute("DELETE FROM absorbing")
            self._db.executemany("INSERT INTO absorbing VALUES (?, ?)", files.items())

    def stamps(self) -> dict[str, bytes]:
        """Return the stamp of every folder as Rellum left it."""
        return dict(self._db.execute("SELECT folder, rows FROM stamp"))

    def token(self) -> tuple[str, str]:
        """Return what tells this state of the folder from any other; see ``rellum.core.folder.ahead``."""
        from rellum.core.folder.ahead import token_of

        return token_of(self._db)

    def needed_counts(self) -> dict[Digest, int]:
        """Return every content that the store of originals must keep, and how often it is needed."""
        rows = self._needed("SELECT digest, count(*) FROM ({}) GROUP BY digest")
        return {Digest(digest): count for digest, count in rows}

    def needed_at(self) -> list[tuple[PlacePath, Digest]]:
        """Return every content that the store must keep, with a path that it is needed for, by path."""
        rows = self._needed("SELECT min(path), digest FROM ({}) GROUP BY digest ORDER BY 1")
        return [(PlacePath(path), Digest(digest)) for path, digest in rows]

    def _needed(self, select: str) -> sqlite3.Cursor:
        from rellum.core.pack.checkpoints import NEEDED_BY_CHECKPOINTS

        return self._db.execute(
            select.format(
                "SELECT path, under_digest AS digest FROM laid WHERE under_digest IS NOT NULL"
                " UNION ALL SELECT path, base_digest FROM laid WHERE base_digest IS NOT NULL"
                " UNION ALL SELECT path, digest FROM kept"
                " UNION ALL SELECT path, base_digest FROM kept WHERE base_digest IS NOT NULL"
                f" UNION ALL {NEEDED_BY_CHECKPOINTS}"
            )
        )

    def has_change(self, change_id: str) -> bool:
        """Whether a change was recorded: the proof that it was carried out."""
        row = self._db.execute("SELECT 1 FROM change WHERE id = ?", (change_id,)).fetchone()
        return row is not None

    def record(self, change: StateChange) -> None:
        """Record a change in one transaction; once it returns, the change survives a power cut."""
        from rellum.core.pack.recording import record_change

        with self._writing():
            self.has_forgotten = record_change(self, self._db, change, now())

    def rehearsal(self, change: StateChange) -> State:
        """Return a copy in memory in which a change is recorded; this one stays as it is."""
        copy = sqlite3.connect(":memory:")
        self._db.backup(copy)
        state = State(copy)
        state.record(change)
        return state

    def rehearsal_without_checkpoints(self, number: int) -> set[Digest]:
        """Return the contents that would be needed if the checkpoints before one were forgotten."""
        copy = sqlite3.connect(":memory:")
        self._db.backup(copy)
        state = State(copy)
        state.checkpoints.forget_before(number)
        needed = set(state.needed_counts())
        copy.close()
        return needed

    def _select_by_path(self, table: str, paths: Iterable[PlacePath]) -> Iterator[tuple[Any, ...]]:
        return self._select(table, "path", paths)

    def _select(self, table: str, column: str, values: Iterable[str]) -> Iterator[tuple[Any, ...]]:
        # A name that is no Unicode text was never recorded: adopting refuses it.
        wanted = [path for path in values if is_text(path)]
        for start in range(0, len(wanted), 500):
            part = wanted[start : start + 500]
            marks = ",".join("?" * len(part))
            yield from self._db.execute(f"SELECT * FROM {table} WHERE {column} IN ({marks})", part)


def new_id() -> str:
    """Return a random id, for a pack or a change."""
    return os.urandom(8).hex()


def now() -> str:
    """Return the time in UTC (ISO 8601), as the state notes it."""
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
