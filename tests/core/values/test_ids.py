"""Names of releases whose versions are words: through a whole life, none is cut where it has a space."""

from __future__ import annotations

import unittest

from tests.support import WorldTest

LISTED = '[mod]\nid = "tides"\nname = "Tides"\nversions = "listed"\n'


class ReleaseNamesTest(WorldTest):
    def test_a_whole_life(self) -> None:
        self.world.cards["tides"] = LISTED
        for version in ("Beta 2", "dog watch"):
            self.world.add_release(
                "tides", version, {"x.dat": version.encode()}, place='to = "@mods/"'
            )
        self.world.add_release("waves", "1.0", {"x.dat": b"w"}, place='to = "@mods/"')
        self.world.adopt()
        self.world.take_all()
        self.world.want("waves")

        def run(*words: str) -> str:
            result = self.world.run(*words)
            self.assertEqual(result.returncode, 0, result.stderr)
            return str(result.stdout)

        with open(self.world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write('[winner]\n"@mods/x.dat" = "tides"\n')
        for version in ("Beta 2", "dog watch"):
            run("want", "tides", f"={version}")
            run("resolve")
            self.assertIn(f"tides {version}", run("apply", "--yes"))
            self.assertEqual(self.world.game()["mods/x.dat"].content, version.encode())
        run("checkpoint", "two words")
        run("restore", "--mod", "tides", "--yes")
        self.assertNotIn("mods/x.dat", self.world.game())
        run("apply", "--yes")
        run("drop", "tides")
        run("resolve")
        run("apply", "--yes")
        self.assertEqual(self.world.game()["mods/x.dat"].content, b"w")
        run("rewind", "two words", "--yes")
        self.assertEqual(self.world.game()["mods/x.dat"].content, b"dog watch")


if __name__ == "__main__":
    unittest.main()
