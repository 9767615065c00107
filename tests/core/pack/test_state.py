"""A state that an older Rellum wrote is brought up to date, and nothing in it is lost."""

from __future__ import annotations

import sqlite3
import unittest
from contextlib import closing

from rellum.core.pack.schema import SCHEMA_VERSION
from tests.support import WorldTest, without_marker

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
    def test_from_schema_1(self) -> None:
        self.world.write_game("Maps/North.map", b"north")
        self.world.add_release("tides", "1.0", {"data/sea.dat": b"tidal", "mods/t/a.dat": b"a"})
        first = self.world.game()
        self.make_applied()
        after = self.world.game()
        file = self.world.path("pack", ".rellum", "state.db")
        with closing(sqlite3.connect(file)) as database:
            database.executescript(TO_1)
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


if __name__ == "__main__":
    unittest.main()
