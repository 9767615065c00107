"""One evening with a game that nobody described: a made-up second game, two dozen downloads, no editing."""

from __future__ import annotations

import io
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tarfile
import tempfile
import tomllib
import unittest
import zipfile
from typing import Any
from unittest import mock

from rellum.core.actions.gather import describe_game
from tests.support import at_terminal, memory_folder, zip_bytes

LIKE = random.Random(7)
MAIN = "print('light')\n"


def about(mod_id: str, version: str, **more: object) -> bytes:
    said = {
        "id": mod_id,
        "title": mod_id.title(),
        "version": version,
        "game": ">=2.4",
        "depends": [{"id": "base", "min": "2.0"}],
        "license": "CC-BY-4.0",
    }
    return json.dumps({**said, **more}).encode()


def mod(folder: str, version: str, files: int = 4, **more: object) -> dict[str, bytes]:
    """Return a mod in a folder of its own that describes itself in JSON."""
    said = {f"{folder}/about.json": about(str(more.pop("mod_id", folder)), version, **more)}
    return said | {f"{folder}/part{n}.dat": LIKE.randbytes(900) for n in range(files)}


def ini_mod(folder: str, mod_id: str, version: str, needs: str = "") -> dict[str, bytes]:
    """Return a mod that describes itself in the older form of the game, an INI file."""
    text = f"[mod]\nid = {mod_id}\nname = The {mod_id}\nversion = {version}\nrequires = {needs}\n"
    return {f"{folder}/mod.ini": text.encode(), f"{folder}/chart.dat": LIKE.randbytes(700)}


def read_toml(folder: str, name: str) -> dict[str, Any]:
    with open(os.path.join(folder, f"{name}.toml"), "rb") as file:
        return tomllib.load(file)


class EveningTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = os.path.realpath(tempfile.mkdtemp(dir=memory_folder()))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.commands = 0
        self.write_game()
        os.makedirs(self.path("pack"))

    def path(self, *parts: str) -> str:
        return os.path.join(self.folder, *parts)

    def write(self, path: str, content: bytes) -> None:
        file = self.path(path)
        os.makedirs(os.path.dirname(file), exist_ok=True)
        with open(file, "wb") as stream:
            stream.write(content)

    def run_it(self, *words: str, expected: tuple[int, ...] = (0,)) -> str:
        """Call the built program in the pack's folder; every call counts as a command."""
        self.commands += 1
        surroundings = {
            **os.environ,
            "HOME": self.path("home"),
            "XDG_CONFIG_HOME": self.path("home", ".config"),
            "XDG_DATA_HOME": self.path("home", ".local"),
            "RELLUM_SHELF": self.path("shelf"),
        }
        result = subprocess.run(
            [sys.executable, "-m", "rellum", *words],
            cwd=self.path("pack"),
            env=surroundings,
            capture_output=True,
            text=True,
            stdin=subprocess.DEVNULL,
        )
        self.assertNotIn("Traceback", result.stderr)
        self.assertIn(result.returncode, expected, result.stdout + result.stderr)
        return result.stdout + result.stderr

    def write_game(self) -> None:
        program = b"\x7fELF" + LIKE.randbytes(50_000) + b"\0Gloamwood 2.4.1\0screenshots/\0"
        self.write("game/gloamwood.bin", program)
        self.write("game/data/core.dat", LIKE.randbytes(200_000))
        self.write("game/data/world.pak", zip_bytes({"maps/fen.map": LIKE.randbytes(5_000)}))
        self.write("game/data/lang/en.txt", b"hello\nfen\n")
        self.write(
            "game/version.json", b'{"product": "Gloamwood", "version": "2.4.1", "build": 811}'
        )
        self.write("game/changes.txt", b"Version 2.4.1\n- fixes\n\nVersion 2.4.0\n- more\n")
        self.write("game/mods/base/about.json", about("base", "2.4.1", depends=[]))
        self.write("game/logs/last.log", b"started\n")
        self.write("home/.config/Gloamwood/options.ini", b"[view]\nfar = 3\n")

    def write_downloads(self) -> None:
        """Write two dozen downloads of every kind that a folder of downloads has."""

        def zipped(name: str, members: dict[str, bytes]) -> bytes:
            content = zip_bytes(members)
            self.write(f"downloads/{name}", content)
            return content

        first = zipped("mossbank-1.2.zip", mod("mossbank", "1.2"))
        self.write("downloads/mossbank-1.2 (1).zip", first)
        zipped("mossbank-1.3.zip", mod("mossbank", "1.3"))
        zipped("mossbank-1.10.zip", mod("mossbank", "1.10"))
        needs = [{"id": "base", "min": "2.0"}, {"id": "mossbank", "min": "1.3"}]
        zipped("FenLights_v0.9.zip", mod("FenLights", "0.9", mod_id="Fen:Lights", depends=needs))
        zipped("Bridges_v2_full.zip", mod("bridges", "2", files=20, game=">=2.4 <3"))
        zipped("two-in-one.zip", mod("stone", "1") | mod("wood", "1"))
        zipped("hollow-2.0.zip", mod("hollow", "1.0"))  # its name and its own words disagree
        zipped("endless.zip", {"endless/about.json": b'{"id":' + b"[" * 90_000, "endless/x": b"x"})
        zipped("odd-range.zip", mod("oddity", "1", game="any of the newer ones"))
        for name, content in mod("thicket", "0.1", needs=[]).items():
            self.write(f"downloads/unpacked mod/{name}", content)
        tar = io.BytesIO()
        with tarfile.open(fileobj=tar, mode="w:gz") as archive:
            for name, content in mod("reeds", "3.1").items():
                info = tarfile.TarInfo(name)
                info.size = len(content)
                archive.addfile(info, io.BytesIO(content))
        self.write("downloads/reeds-3.1.tar.gz", tar.getvalue())
        marsh = zip_bytes(mod("marsh", "4"))
        self.write("downloads/marsh-4.zip.001", marsh[:1500])
        self.write("downloads/marsh-4.zip.002", marsh[1500:])
        self.write(
            "downloads/lanterns-setup.exe", b"MZ" + bytes(4000) + zip_bytes(mod("lanterns", "5"))
        )
        zipped("tide-charts-1.1.zip", ini_mod("charts", "tide-charts", "1.1"))
        zipped("deep-charts-2.0.zip", ini_mod("deep", "deep-charts", "2.0", "tide-charts:1.0"))
        zipped("wisp-r12.zip", {"wisp/glow.dat": b"g" * 50, "wisp/readme.txt": b"Wisp"})
        zipped("LongNight_1.4.zip", {"LongNight_1.4/mods/night/n.dat": b"n",
                                                          "LongNight_1.4/Readme.txt": b"hi"})  # fmt: skip
        zipped("SkyPack (HD).zip", {"data/lang/en.txt": b"another hello\n"})
        zipped("bundle.zip", {"inner.zip": first, "readme.txt": b"unpack me"})
        self.write("downloads/page.zip", b"<!doctype html><html><title>Sign in</title></html>")
        self.write("downloads/broken-1.zip", first[: len(first) // 2])
        self.write("downloads/helper.exe", b"MZ" + bytes(9000))
        self.write("downloads/late-1.0.zip.part", first[:99])

    def test_the_whole_evening(self) -> None:
        self.write_downloads()
        drafted = self.run_it("describe", "--game", "../game", "../downloads", "--yes")
        self.assertIn("version   2.4.1, from version.json", drafted)
        self.assertIn("mods say  about.json, mod.ini", drafted)
        self.run_it("adopt", "../game")
        said = self.run_it("describe", "../downloads", "--each", expected=(1,))
        for words in (
            "bundle.zip: holds another archive (inner.zip), and no files of a mod",
            "page.zip: is a web page ('Sign in')",
            "helper.exe: is a program, not an archive",
            "late-1.0.zip.part",
        ):
            self.assertIn(words, " ".join(said.split()))
        self.assert_cards()
        self.answer_what_nobody_can_guess()
        self.run_it("take", "../downloads", "--each", expected=(1,))
        self.run_it("want", "--shelf")
        self.run_it("apply", "--yes")
        self.assertIn("No drift", self.run_it("check"))
        self.assertLessEqual(self.commands, 10)
        self.assert_laid()
        self.commands = 0
        self.write("new/mossbank-1.11.zip", zip_bytes(mod("mossbank", "1.11")))
        self.run_it("take", "../new/mossbank-1.11.zip")
        applied = self.run_it("apply", "--yes", "--newest", "mossbank")
        self.assertIn("The newest release of mossbank that fits is 1.11.", applied)
        self.assertEqual(self.commands, 2)
        self.run_it("restore", "--all", "--yes")
        self.assertFalse(os.path.exists(self.path("game", "mods", "mossbank")))
        self.run_it("shelf", "drop", "mossbank@1.11", "--yes")
        said = self.run_it("preview", expected=(2,))
        self.assertRegex(said, r"\nmossbank +- +1\.11 +1 missing\n")
        self.assertRegex(said, r"\nreeds +- +3\.1 +here\n")

    def assert_cards(self) -> None:
        cards = {}
        folder = self.path("pack", "catalog", "cards")
        for name in os.listdir(folder):
            with open(os.path.join(folder, name), "rb") as file:
                cards[name.removesuffix(".toml")] = tomllib.load(file)
        versions = [each["version"] for each in cards["mossbank"]["release"]]
        self.assertEqual(versions, ["1.2", "1.3", "1.10"])
        fen = cards["fen-lights"]
        self.assertEqual(fen["mod"]["own-id"], "Fen:Lights")
        self.assertEqual(fen["release"][0]["needs"], {"mossbank": ">=1.3"})
        self.assertEqual(fen["release"][0]["place"][0]["to"], "@mods/FenLights/")
        self.assertEqual(cards["bridges"]["release"][0]["game"], ">=2.4, <3")
        self.assertEqual(cards["hollow"]["release"][0]["version"], "1.0")
        self.assertEqual(cards["deep-charts"]["release"][0]["needs"], {"tide-charts": ">=1.0"})
        both = cards["two-in-one"]["release"][0]["offers"]
        self.assertEqual(both, {"stone": "1", "wood": "1"})
        self.assertEqual(len(cards["marsh"]["release"][0]["file"]), 2)
        for name in ("thicket", "reeds", "lanterns", "wisp", "longnight"):
            self.assertTrue(name in cards or name == "longnight", name)

    def answer_what_nobody_can_guess(self) -> None:
        """Decide the few marked lines, as a curator would: a version, a range, whether a place is right."""
        vetted = self.run_it("vet", expected=(0, 1))
        marked = [line for line in vetted.splitlines() if "FILL IN" in line]
        self.assertLessEqual(len(marked), 12, vetted)
        described = ("mossbank", "fen-lights", "bridges", "reeds", "marsh", "lanterns", "thicket",
                     "tide-charts", "deep-charts")  # fmt: skip
        for each in described:  # where mods describe themselves, nobody has to write a line
            self.assertNotIn(f"cards/{each}.toml", vetted)
        self.assertIn("cards/hollow.toml", vetted)  # its name and its own words disagree
        for line in marked:
            file = os.path.join(self.path("pack"), line.split(":")[0])
            with open(file, encoding="utf-8") as stream:
                text = stream.read()
            with open(file, "w", encoding="utf-8") as stream:
                stream.write(text.replace("FILL IN: ", "").replace("FILL-IN", "1.0"))

    def assert_laid(self) -> None:
        for name in (
            "mods/mossbank/about.json",
            "mods/FenLights/part0.dat",
            "mods/bridges/part19.dat",
            "mods/marsh/part3.dat",
            "mods/reeds/about.json",
            "mods/lanterns/about.json",
            "mods/thicket/about.json",
            "mods/charts/mod.ini",
            "mods/wisp/glow.dat",
            "mods/night/n.dat",
            "mods/base/about.json",
        ):
            self.assertTrue(os.path.isfile(self.path("game", name)), name)
        with open(self.path("game", "mods", "mossbank", "about.json"), encoding="utf-8") as file:
            self.assertEqual(json.load(file)["version"], "1.10")
        self.assertFalse(os.path.exists(self.path("game", "Readme.txt")))
        with open(self.path("game", "data", "lang", "en.txt"), "rb") as file:
            self.assertEqual(file.read(), b"another hello\n")

    def test_a_patch_and_a_named_version_are_drafted_as_such(self) -> None:
        files = mod("moss", "2.0", files=9)
        self.write(
            "downloads/moss-2.0.zip", zip_bytes({**files, "data/fen.dat": LIKE.randbytes(9_000)})
        )
        small = {"moss/about.json": about("moss", "2.1"), "moss/part1.dat": b"new"}
        self.write("downloads/moss-2.1-patch.zip", zip_bytes(small))
        for name in ("first light", "dog watch"):
            self.write(f"downloads/charts {name}.zip", zip_bytes(mod("charts", name)))
        self.run_it("describe", "--game", "../game", "../downloads", "--yes")
        self.run_it("adopt", "../game")
        self.run_it("describe", "../downloads", "--each")
        with open(self.path("pack", "catalog", "cards", "moss.toml"), "rb") as file:
            full, patch = tomllib.load(file)["release"]
        self.assertEqual([each["to"] for each in full["place"]], ["@data/", "@mods/moss/"])
        self.assertEqual(patch["patches"], "2.0")
        self.assertEqual([each["to"] for each in patch["place"]], ["@mods/moss/"])
        with open(self.path("pack", "catalog", "cards", "charts.toml"), "rb") as file:
            charts = tomllib.load(file)
        self.assertEqual(charts["mod"]["versions"], "listed")
        self.assertEqual(
            [each["version"] for each in charts["release"]], ["dog watch", "first light"]
        )
        vetted = self.run_it("vet", expected=(1,))
        self.assertIn("moss.toml", vetted)
        self.assertIn("put them in order below, the oldest first", vetted)

    def test_strange_words_and_namesakes(self) -> None:
        def zipped(name: str, said: bytes) -> None:
            self.write(f"downloads/{name}", zip_bytes({"m/about.json": said, "m/a.dat": b"a"}))

        zipped("plain.zip", about("plain", "1"))
        zipped("first.zip", about("fen:lights", "1"))
        zipped("second.zip", about("Fen.Lights", "3"))  # another mod, of the same id to a card
        zipped("huge.zip", about("huge", "9" * 500_000))
        zipped("quote.zip", about('qu"ote\\', '1.0"\n[evil]'))
        zipped("out.zip", about("../../etc/out", "1"))
        zipped("needy.zip", about("needy", "1", depends=[{"id": "ghost", "min": "x y"}]))
        self.run_it("describe", "--game", "../game", "../downloads", "--yes")
        self.run_it("adopt", "../game")
        said = " ".join(self.run_it("describe", "../downloads", "--each", expected=(1,)).split())
        self.assertIn(
            "its mod calls itself 'Fen.Lights', and the mod fen-lights calls itself", said
        )
        self.assertIn("No card describes ghost, which is needed by needy 1", said)
        names = sorted(os.listdir(self.path("pack", "catalog", "cards")))
        self.assertEqual(names, ["etc-out.toml", "fen-lights.toml", "huge.toml", "needy.toml",
                                 "plain.toml", "qu-ote.toml"])  # fmt: skip
        vetted = self.run_it("vet", expected=(1,))
        for line in vetted.strip().splitlines()[:-1]:
            self.assertTrue("FILL IN" in line or "'ghost'" in line or not line, line)
        for name in ("huge", "qu-ote", "needy"):
            self.assertIn(f"catalog/cards/{name}.toml", vetted)

    @unittest.skipIf(sys.platform == "win32", "needs a pseudo-terminal")
    def test_the_questions_at_a_terminal(self) -> None:
        self.write_downloads()
        for name in ("one", "two"):
            self.write(f"game/expansions/deep/{name}.dat", b"deep")
        self.write("game/order.json", b'{"mods": []}')
        os.makedirs(self.path("home", "Gloamwood"))
        outside = f"{{config}}/Gloamwood, {self.path('home', 'Gloamwood')}, /etc"
        answers = ("2", "Gloam Wood", "", "skip", outside, "my-maps, changes.txt", "logs, cache",
                   "mods, maps", "", "order.json", "changes.txt", "about.json")  # fmt: skip
        status, shown = at_terminal(
            ("describe", "--game", "../game", "../downloads"),
            "\n".join(answers) + "\n",
            self.path("pack"),
            HOME=self.path("home"),
            XDG_CONFIG_HOME=self.path("home", ".config"),
            NO_COLOR="1",
        )
        self.assertEqual(status, 0, shown)
        asked = re.findall(r"\[[^\]\n]*\] ", shown)  # each with its likeliest answer
        self.assertEqual(len(asked), len(answers), shown)
        self.assertLessEqual(len(asked), 12)
        for words in (
            "version   2.4.1",
            "mods say  about.json\r\n",
            "Its mods would count as vanilla",
        ):
            self.assertIn(words, shown)
        with open(self.path("pack", "catalog", "games", "gloamwood.toml"), "rb") as file:
            sheet = tomllib.load(file)
        self.assertEqual(sheet["game"]["name"], "Gloam Wood")
        self.assertEqual(sheet["game"]["own-files"], ["@game/logs/**", "@game/cache/**"])
        self.assertEqual(sheet["game"]["carry"], ["@game/my-maps/**", "@game/changes.txt"])
        self.assertEqual(sheet["game"]["store-files"], ["@game/changes.txt"])
        deep = {"id": "deep", "file": "@game/expansions/deep/one.dat"}
        self.assertEqual(sheet["expansion"], [deep])
        self.assertIn("/etc is left out", shown)
        self.assertEqual(sheet["load-order"]["form"], "json")
        places = {"mods": "@game/mods", "maps": "@game/maps", "data": "@game/data"}
        places |= {"settings": "{config}/Gloamwood", "userdata": "{home}/Gloamwood"}
        self.assertEqual(sheet["places"], places)
        self.assertEqual([each["file"] for each in sheet["self-description"]], ["about.json"])
        self.assertIn("deep", self.run_it("adopt", "../game"))

    def test_a_folder_of_very_many_files_is_asked_about(self) -> None:
        asked: list[int] = []

        def refuse(count: int) -> bool:
            asked.append(count)
            return False

        with mock.patch.object(describe_game, "MOST_FILES", 5):
            with self.assertRaisesRegex(describe_game.NoGameFolder, "more than 5 files"):
                describe_game.describe_game(self.path("game"), (), describe_game.as_guessed, refuse)
            describe_game.describe_game(
                self.path("game"), (), describe_game.as_guessed, lambda _: True
            )
        self.assertEqual(len(asked), 1)

    def test_builds_and_members_of_containers_are_drafted(self) -> None:
        def zipped(name: str, **members: bytes) -> None:
            self.write(
                f"downloads/{name}",
                zip_bytes({k.replace("__", "/"): v for k, v in members.items()}),
            )

        zipped("reed-1.2-2.4.0.zip", mods__reed__a=b"for 2.4.0")
        zipped("reed-1.2-g2.4.1.zip", mods__reed__a=b"for 2.4.1")
        zipped("reed-1.2-mossy.zip", mods__reed__a=b"of nobody knows what")
        for loader in ("fenloader", "mossloader"):
            zipped(f"glow-2.0-{loader}.zip", mods__glow__a=loader.encode())
        for number, game in enumerate((">=2.4 <2.5", ">=2.5")):
            said = {"own/about.json": about("own", "1.0", game=game), "own/a": str(game).encode()}
            self.write(f"downloads/own-1.0-{number}.zip", zip_bytes(said))
        fen = {"world.pak/maps/fen.map": b"dry", "world.pak/maps/new.map": b"new"}
        self.write("downloads/dry-fen-1.zip", zip_bytes(fen))
        self.run_it("describe", "--game", "../game", "../downloads", "--yes")
        self.run_it("adopt", "../game")
        for loader in ("fenloader", "mossloader"):
            head = f'[mod]\nid = "{loader}"\nname = "L"\nkind = "loader"\n'
            self.write(
                f"pack/catalog/cards/{loader}.toml", f'{head}[[release]]\nversion = "1"\n'.encode()
            )
        self.run_it("describe", "../downloads", "--each")
        cards = self.path("pack", "catalog", "cards")
        reed, glow, own = (read_toml(cards, name)["release"] for name in ("reed", "glow", "own"))
        self.assertEqual([(each["name"], each["game"]) for each in reed[0]["build"]],
                         [("for-2-4-0", "2.4.0"), ("for-2-4-1", "2.4.1")])  # fmt: skip
        self.assertEqual([each["needs"] for each in glow[0]["build"]],
                         [{"fenloader": "*"}, {"mossloader": "*"}])  # fmt: skip
        self.assertEqual([each["game"] for each in own[0]["build"]], [">=2.4, <2.5", ">=2.5"])
        self.assertEqual(self.run_it("describe", "../downloads", "--each").count("new card"), 0)
        self.assertNotIn("catalog/cards/", self.run_it("vet", expected=(1,)))
        self.run_it("take", "../downloads", "--each")
        self.run_it("want", "reed", "own", "dry-fen")
        self.run_it("apply", "--yes")
        with zipfile.ZipFile(self.path("game", "data", "world.pak")) as pak:
            self.assertEqual(pak.read("maps/fen.map") + pak.read("maps/new.map"), b"drynew")
        for name, content in (("reed", b"for 2.4.1"), ("own", b">=2.4 <2.5")):
            with open(self.path("game", "mods", name, "a"), "rb") as file:
                self.assertEqual(file.read(), content)
        self.assertIn("No drift", self.run_it("check"))

    def test_what_is_no_game_is_refused(self) -> None:
        os.makedirs(self.path("home"), exist_ok=True)
        os.makedirs(self.path("empty"))
        for folder, words in (
            (self.path("home"), "that is no game's folder"),
            ("/", "that is no game's folder"),
            (self.path("empty"), "is empty"),
            (self.path("nowhere"), "is not a folder"),
        ):
            with self.subTest(folder):
                said = self.run_it("describe", "--game", folder, "--yes", expected=(2,))
                self.assertIn(words, " ".join(said.split()))
        self.assertIn(
            "rellum describe --game",
            " ".join(self.run_it("adopt", "../game", expected=(2,)).split()),
        )


if __name__ == "__main__":
    unittest.main()
