"""Grafts: a donor's content under the names of a slot, and the slot back again."""

from __future__ import annotations

import unittest

from tests.support import WorldTest, snapshot, without_marker, write_tree, zip_bytes

SLOT = {
    "routes/north/track.map": b"north track",
    "routes/north/sky.tex": b"north sky",
    "routes/north/song.snd": b"north song",
}
DONOR = {"tracks/strait/strait.map": b"s track", "tracks/strait/sky.tex": b"s sky",
         "tracks/strait/more.tex": b"m", "tracks/strait/about.txt": b"t", "other/x": b"x"}  # fmt: skip
GRAFT = """
[[graft]]
name = "strait-as-north"
donor = "{donor}"
take = "tracks/strait/**"
slot = "{slot}"
leave-out = ["*.txt"]
rename = {{ "strait.map" = "track.map" }}
"""


class GraftsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        write_tree(self.world.path("game"), SLOT)
        write_tree(self.world.path("old-game"), DONOR)
        write_tree(self.world.path("archives"), {"old.zip": zip_bytes(DONOR)})
        self.world.add_release("tides", "1.0", {"a": b"a"}, place='to = "@mods/t/"')
        self.first = self.world.game()
        self.make_resolved()

    def graft(self, donor: str = "../old-game", slot: str = "@game/routes/north/") -> None:
        self.world.change_pack(GRAFT.format(donor=donor, slot=slot))

    def routes(self) -> dict[str, bytes | None]:
        return {
            path: each.content
            for path, each in self.world.game().items()
            if path.startswith("routes/north/") and not path.endswith("/")
        }

    def test_from_a_folder_and_from_an_archive_and_back(self) -> None:
        for donor in ("../old-game", "../archives/old.zip"):
            with self.subTest(donor):
                self.setUp()
                self.graft(donor)
                said = self.world.run("preview").stdout
                self.assertIn("graft strait-as-north: 2 of the slot's 3 files, 1 more", said)
                self.assertIn("nothing for routes/north/song.snd", said)
                self.world.apply()
                expected = {
                    "routes/north/track.map": b"s track",
                    "routes/north/sky.tex": b"s sky",
                    "routes/north/more.tex": b"m",
                }
                self.assertEqual(self.routes(), expected)
                self.assertEqual(self.world.check().findings, ())
                self.assertTrue(self.world.apply().preview.plan.is_empty)
                self.world.restore_all()
                self.assertEqual(self.world.game(), self.first)
        self.assertEqual(
            {path: each.content for path, each in snapshot(self.world.path("old-game")).items()
             if each.content is not None}, DONOR,
        )  # fmt: skip

    def test_a_mod_lies_over_a_graft_and_a_graft_can_go(self) -> None:
        self.graft()
        self.world.add_release(
            "sky", "1.0", {"sky.tex": b"mod sky"}, place='to = "@game/routes/north/"'
        )
        self.world.take_all()
        self.world.want("sky")
        self.world.resolve()
        self.world.apply()
        self.assertEqual(self.routes()["routes/north/sky.tex"], b"mod sky")
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            text = file.read()
        with open(self.world.path("pack", "rellum.toml"), "w", encoding="utf-8") as file:
            file.write(text[: text.index("[[graft]]")])
        self.world.apply()
        expected = {**SLOT, "routes/north/sky.tex": b"mod sky"}
        self.assertEqual(self.routes(), expected)

    def test_a_trial_that_broke_is_told(self) -> None:
        self.graft()
        result = self.world.run(
            "trial", "breaks", "--graft", "strait-as-north", "--note", "no song"
        )
        self.assertEqual(result.returncode, 0, result.stderr)
        self.assertIn("strait-as-north broke on game 1.6.0", self.world.run("preview").stderr)
        self.world.resolve(fresh=True)  # it says nothing of the releases
        self.assertIn(
            "no graft 'strait'", self.world.run("trial", "breaks", "--graft", "strait").stderr
        )

    def test_what_is_wrong_with_a_graft(self) -> None:
        for donor, slot, words in (
            ("../gone", "@game/routes/north/", "rellum.toml:\\d+: the donor ../gone is not there"),
            ("../old-game", "@game/routes/south/", "the game has no slot routes/south"),
            ("../old-game", "@rotues/south/", "does not begin with a place"),
        ):
            with self.subTest(words):
                self.setUp()
                self.graft(donor, slot)
                before = without_marker(self.world.game())
                result = self.world.run("apply", "--yes")
                self.assertEqual(result.returncode, 2)
                self.assertRegex(result.stderr, words)
                self.assertEqual(without_marker(self.world.game()), before)


if __name__ == "__main__":
    unittest.main()
