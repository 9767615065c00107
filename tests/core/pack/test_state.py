"""A state that an older Rellum wrote is brought up to date, and nothing in it is lost."""

from __future__ import annotations

import sqlite3
import unittest
from contextlib import closing

from rellum.core.pack.home import PackHome
from rellum.core.pack.open_state import open_state
from rellum.core.pack.schema import SCHEMA_VERSION
from tests.support import WorldTest, without_marker

TO_4 = """
ALTER TABLE laid RENAME TO laid_5;
DROP INDEX laid_mod;
CREATE TABLE laid (
    path TEXT PRIMARY KEY, owner TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL,
    mode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
    under_digest TEXT, under_size INTEGER, under_mode INTEGER, under_mtime_ns INTEGER,
    role TEXT NOT NULL DEFAULT '', base_digest TEXT
) WITHOUT ROWID;
CREATE INDEX laid_owner ON laid (owner);
INSERT INTO laid SELECT path, CASE party WHEN '' THEN mod || ' ' || version ELSE party END, digest,
    size, mode, mtime_ns, under_digest, under_size, under_mode, under_mtime_ns, role, base_digest
    FROM laid_5;
CREATE TABLE release (
    owner TEXT PRIMARY KEY, mod TEXT NOT NULL, version TEXT NOT NULL, build TEXT NOT NULL
) WITHOUT ROWID;
INSERT INTO release SELECT DISTINCT mod || ' ' || version, mod, version, build FROM laid_5
    WHERE mod != '';
DROP TABLE laid_5;
ALTER TABLE kept ADD COLUMN owner TEXT NOT NULL DEFAULT '';
UPDATE kept SET owner = CASE party WHEN '' THEN trim(mod || ' ' || version) ELSE party END;
ALTER TABLE kept DROP COLUMN party;
ALTER TABLE kept DROP COLUMN mod;
ALTER TABLE kept DROP COLUMN version;
ALTER TABLE kept DROP COLUMN build;
UPDATE was_laid SET row = json_remove(json_set(row, '$[1]',
    CASE json_extract(row, '$[1]') WHEN '' THEN json_extract(row, '$[2]') || ' ' ||
    json_extract(row, '$[3]') ELSE json_extract(row, '$[1]') END), '$[4]', '$[3]', '$[2]')
    WHERE row IS NOT NULL;
ALTER TABLE change DROP COLUMN files;
ALTER TABLE change DROP COLUMN game;
ALTER TABLE change DROP COLUMN texts;
PRAGMA user_version = 4;
"""
TO_1 = """
ALTER TABLE laid DROP COLUMN role;
ALTER TABLE laid DROP COLUMN base_digest;
ALTER TABLE kept DROP COLUMN aside_for;
DROP TABLE spelling;
DROP TABLE outside;
DROP TABLE own_folder;
DROP TABLE made;
DROP TABLE checkpoint; DROP TABLE was_file; DROP TABLE was_laid; DROP TABLE was_vanilla;
DROP TABLE was_folder; DROP TABLE setting; DROP TABLE pack_text; DROP TABLE in_force;
DROP TABLE guarded; DROP TABLE absorbing; DROP TABLE note; DROP TABLE suspect; DROP TABLE unsure;
DROP INDEX baseline_unknown; DROP TABLE kept; DROP TABLE release;
CREATE TABLE kept (
    path TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL, kept_at TEXT NOT NULL
);
PRAGMA user_version = 1;
"""


class UpgradeTest(WorldTest):
    def test_from_schema_4(self) -> None:
        """Owners were texts: whose everything was, and is kept for, is known afterwards, too."""
        self.world.cards["tides"] = '[mod]\nid = "tides"\nname = "T"\nversions = "listed"\n'
        for version in ("Beta 2", "dog watch"):
            self.world.add_release("tides", version, {"data/sea.dat": version.encode()})
        self.make_applied()
        self.world.write_game("data/sea.dat", b"tuned by hand")
        self.world.want("tides", "=Beta 2")
        self.world.resolve()
        self.world.apply()
        kept = self.world.run("kept", "--json").stdout
        with closing(sqlite3.connect(self.world.path("pack", ".rellum", "state.db"))) as database:
            database.executescript(TO_4)
        self.assertEqual(self.world.run("kept", "--json").stdout, kept)
        self.assertIn("dog watch", kept)
        self.assertEqual(self.world.check(deep=True).findings, ())
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.world.rewind("2")
        with open(self.world.path("game", "data", "sea.dat"), "rb") as file:
            self.assertEqual(file.read(), b"tuned by hand")  # nobody has the mod's own any more
        self.world.apply()
        self.assertEqual(self.world.game()["data/sea.dat"].content, b"dog watch")

    def test_from_schema_1(self) -> None:
        self.world.write_game("Maps/North.map", b"north")
        self.world.add_release("tides", "1.0", {"data/sea.dat": b"tidal", "mods/t/a.dat": b"a"})
        first = self.world.game()
        self.make_applied()
        after = self.world.game()
        file = self.world.path("pack", ".rellum", "state.db")
        with closing(sqlite3.connect(file)) as database:
            database.executescript(TO_4 + TO_1)
        self.assertEqual(self.world.check(deep=True).findings, ())
        with closing(sqlite3.connect(file)) as database:
            version = database.execute("PRAGMA user_version").fetchone()[0]
            spelt = dict(database.execute("SELECT folded, path FROM spelling"))
        self.assertEqual(version, SCHEMA_VERSION)
        self.assertEqual(
            spelt, {"@game/maps": "@game/Maps", "@game/maps/north.map": "@game/Maps/North.map"}
        )
        self.assertTrue(self.world.apply().preview.plan.is_empty)
        self.assertEqual(self.world.game(), after)
        self.world.drop("tides")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(without_marker(self.world.game()), first)
        self.world.restore_all()
        self.assertEqual(self.world.game(), first)


class LaidTest(WorldTest):
    def test_it_is_read_again_after_whoever_wrote(self) -> None:
        self.world.add_release("tides", "1.0", {"data/sea.dat": b"tidal", "mods/t/a.dat": b"a"})
        self.make_applied()
        home = PackHome(self.world.path("pack"))
        with closing(open_state(home)) as state:
            before = state.laid()
            self.assertIn("@game/data/sea.dat", before)
            self.assertIs(state.laid(), state.laid())
            with closing(sqlite3.connect(home.state_file)) as other, other:
                other.execute("DELETE FROM laid WHERE path LIKE '%/sea.dat'")
            self.assertEqual(before.keys() - state.laid().keys(), {"@game/data/sea.dat"})


if __name__ == "__main__":
    unittest.main()
