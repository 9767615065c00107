"""Archives that stay packed, because the game keeps such archives itself."""

from __future__ import annotations

import os

from tests.support import WorldTest, write_tree, zip_bytes


def pack(name: str) -> bytes:
    return zip_bytes(
        {"pack.json": b'{"form": 1}', f"textures/{name}.png": name.encode(), "readme.txt": b"r"}
    )


class PackedTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        vanilla = {f"packs/{name}.zip": pack(name) for name in ("sea", "shore")}
        write_tree(self.world.path("game"), {**vanilla, "levels/first.lev": pack("first")})
        sheet = self.world.path("catalog", "games", "fathomline.toml")
        with open(sheet, "a", encoding="utf-8") as file:
            file.write('\n[[container]]\nfile = "@game/levels/*.lev"\n')
        self.world.adopt()

    def card_of(self, name: str, content: bytes) -> str:
        write_tree(self.world.path("downloads"), {name: content})
        result = self.world.run("describe", f"../downloads/{name}")
        self.assertEqual(result.returncode, 0, result.stderr)
        return result.stdout

    def test_a_pack_like_the_games_stays_packed(self) -> None:
        content = pack("clouds")
        card = self.card_of("clouds-1.2.zip", content)
        self.assertIn('packed = true\n  to = "@game/packs/clouds.zip"', card)
        self.assertNotIn("FILL IN: the game keeps", card)
        self.world.run("describe", "../downloads/clouds-1.2.zip", "--save")
        self.world.run("take", "../downloads/clouds-1.2.zip")
        self.world.run("want", "clouds")
        self.assertEqual(self.world.run("apply", "--yes").returncode, 0)
        with open(self.world.path("game", "packs", "clouds.zip"), "rb") as file:
            self.assertEqual(file.read(), content)

    def test_another_ending_and_a_vanilla_name(self) -> None:
        self.assertIn('to = "@game/levels/first.lev"', self.card_of("first.lev", pack("other")))
        self.assertNotIn("packed = true", self.card_of("second.pk3", pack("second")))

    def test_what_is_no_such_pack_is_unpacked(self) -> None:
        for members in ({"mods/a.dat": b"a"}, {"readme.txt": b"r", "mods/b.dat": b"b"}):
            self.assertNotIn("packed = true", self.card_of("other-1.zip", zip_bytes(members)))

    def test_a_damaged_vanilla_archive_tells_nothing(self) -> None:
        with open(self.world.path("game", "packs", "shore.zip"), "wb") as file:
            file.write(os.urandom(300))
        self.assertNotIn("packed = true", self.card_of("clouds-1.2.zip", pack("clouds")))
