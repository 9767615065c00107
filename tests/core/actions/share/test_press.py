"""Press: what comes out is what others install, the same on every system, and its patch gives the same."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import time
import uuid
import zipfile
from typing import Any

from tests.support import WorldTest, read_document, write_tree

DESCRIBED = """
[[self-description]]
file = "about.json"
form = "json"
id = ["id"]
version = ["version"]
identity = ["uuid"]
"""


class PressTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.change_sheet(f'[press]\nleave-out = ["*.psd"]\n{DESCRIBED}')
        self.world.adopt()
        self.folder = self.world.path("work", "foam")
        self.uuid = str(uuid.uuid4())
        self.about = {"id": "foam", "version": "1.0", "uuid": self.uuid}
        self.edit({"about.json": json.dumps(self.about).encode(), "a.dat": b"a" * 2000,
                    "charts/deep.dat": bytes(range(256)) * 40, "README.md": b"read me",
                    "sketch.psd": b"sketch", ".git/config": b"x", "a.dat~": b"old"})  # fmt: skip

    def edit(self, files: dict[str, bytes]) -> None:
        write_tree(self.folder, files)

    def press(self, *words: str, status: int = 0) -> Any:
        done = self.world.run("press", self.folder, *words, "--json")
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return json.loads(done.stdout) if status == 0 else json.loads(done.stdout)["error"]

    def lay(self, *wants: str) -> dict[str, bytes]:
        """Lay a release, and return what lies in the mod's folder then."""
        for words in (("want", *wants), ("apply", "--yes")):
            done = self.world.run(*words)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        game = self.world.game()
        return {name[10:]: entry.content for name, entry in game.items()
                if name.startswith("mods/foam/") and entry.content is not None}  # fmt: skip

    def of_folder(self) -> dict[str, bytes]:
        return {
            name: content
            for name, content in self._files().items()
            if not name.endswith(("~", ".psd", ".md")) and ".git" not in name
        }

    def _files(self) -> dict[str, bytes]:
        found = {}
        for above, _, names in os.walk(self.folder):
            for name in names:
                path = os.path.join(above, name)
                with open(path, "rb") as file:
                    found[os.path.relpath(path, self.folder).replace(os.sep, "/")] = file.read()
        return found

    def plain(self) -> str:
        """Return a working folder that says nothing of itself, so that its version is only stated."""
        folder = self.world.path("work", "plain")
        write_tree(folder, {"mods/plain/a.dat": b"a" * 500})
        return folder

    def test_the_same_files_under_another_version_are_a_release(self) -> None:
        plain = self.plain()
        for version in ("1.0", "1.1"):
            done = self.world.run("press", plain, "--mod", "plain", "--version", version)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertNotIn("already", done.stdout)
        card = self.world.path("catalog", "cards", "plain.toml")
        with open(card, encoding="utf-8") as file:
            text = file.read()
        self.assertEqual(text.count("[[release]]"), 2)
        more = ("--mod", "plain", "--version", "1.2", "--patch-from", "1.0")
        done = self.world.run("press", plain, *more)
        self.assertIn("has the same files as plain 1.0", done.stderr)
        self.assertEqual(done.returncode, 2)
        with open(card, encoding="utf-8") as file:
            self.assertEqual(file.read(), text)

    def test_a_patch_is_pressed_once(self) -> None:
        """A second time it is refused, and the card is as it was; a card is written only if it reads back."""
        plain = self.plain()
        self.world.run("press", plain, "--mod", "plain", "--version", "1.0")
        write_tree(plain, {"mods/plain/a.dat": b"b" * 500})
        words = ("press", plain, "--mod", "plain", "--version", "2.0", "--patch-from", "1.0")
        self.assertEqual(self.world.run(*words).returncode, 0)
        card = self.world.path("catalog", "cards", "plain.toml")
        with open(card, "rb") as file:
            before = file.read()
        done = self.world.run(*words)
        self.assertIn("can be had as an update patch over 1.0 already", done.stderr)
        self.assertEqual(done.returncode, 2)
        with open(card, "rb") as file:
            self.assertEqual(file.read(), before)
        self.assertEqual(self.world.run("vet").returncode, 0)

    def test_what_is_pressed_is_what_is_laid(self) -> None:
        found = self.press("--licence", "CC-BY-4.0")
        self.assertEqual(found["release"], {"mod": "foam", "version": "1.0", "build": None})
        self.assertEqual(found["left_out"], [".git/", "a.dat~", "sketch.psd"])
        self.assertEqual((found["licence"], found["open_line_count"]), ("CC-BY-4.0", 0))
        self.assertEqual(
            read_document(json.dumps(found))["lays"],
            sorted(f"mods/foam/{name}" for name in self.of_folder()),
        )
        self.assertEqual(self.lay("foam"), self.of_folder())
        self.assertEqual(self.world.run("vet").returncode, 0)
        same = self.press()
        self.assertEqual((same["sha256"], same["bytes"]), (found["sha256"], found["bytes"]))

    def test_an_update_raises_the_version_and_its_patch_gives_the_same(self) -> None:
        dice = random.Random(4)
        self.edit({f"more/{number}.dat": dice.randbytes(3000) for number in range(9)})
        self.press()
        self.assertEqual(self.lay("foam"), self.of_folder())
        os.unlink(os.path.join(self.folder, "more", "3.dat"))
        self.edit({"more/4.dat": dice.randbytes(3000), "new.txt": b"new\n",
                    "charts/deep.dat": bytes(range(256)) * 40 + b"deeper"})  # fmt: skip
        found = self.press("--version", "1.1", "--patch-from", "1.0", "--as-diffs")
        self.assertEqual(found["raised_from"], "1.0")
        self.assertEqual(json.loads(self._files()["about.json"]), {**self.about, "version": "1.1"})
        changes = {key: found["changes"][key] for key in ("new", "changed", "gone")}
        self.assertEqual(
            changes,
            {
                "new": ["new.txt"],
                "changed": ["about.json", "charts/deep.dat", "more/4.dat"],
                "gone": ["more/3.dat"],
            },
        )
        patch = found["patch"]
        self.assertEqual(
            (patch["removed_count"], patch["whole_count"], patch["delta_count"]), (1, 3, 1)
        )
        self.assertLess(patch["bytes"], found["bytes"])
        by_patch = self.lay("foam@1.1")
        self.assertEqual(by_patch, self.of_folder())
        preview = self.world.run("list", "--json")
        self.assertIn("1.1", preview.stdout)
        self.edit({"new.txt": b"newer\n"})
        self.assertIn("update patch", self.press("--again", status=2)["summary"])
        self.edit({"new.txt": b"new\n"})
        # The same from nothing: the whole archive alone, or the old one and the patch.
        for gone in ("foam-1.0-to-1.1.zip", "foam-1.1.zip"):
            with self.subTest(without=gone):
                self.world.run("drop", "foam")
                self.world.run("apply", "--yes")
                self.assertEqual(self.world.run("shelf", "drop", gone, "--yes").returncode, 0)
                self.assertEqual(self.lay("foam@1.1"), self.of_folder())
                self.world.run("take", self.world.path("work", gone))

    def test_the_same_bytes_under_other_settings(self) -> None:
        """Another umask, locale, time zone and order of files."""
        script = (
            "import sys\nfrom rellum.core.shelf.folder_pack import *\n"
            "write_zip(content_of(sys.argv[1]).files, sys.argv[2], begins_like_program)\n"
        )
        self.edit({"start.sh": b"#!/bin/sh\n", "\u00c4.dat": b"composed", "z": b"z", "Y": b"y"})
        made = []
        for number, (umask, mode, zone) in enumerate(
            ((0o022, 0o644, "UTC"), (0o077, 0o755, "Asia/Tokyo"))
        ):
            copy = self.world.path(f"copy-{number}")
            names = sorted(self._files(), reverse=bool(number))
            old = os.umask(umask)
            try:
                for name in names:
                    spelled = name.replace("\u00c4", "A\u0308") if number else name
                    write_tree(copy, {spelled: self._files()[name]})
                    os.chmod(os.path.join(copy, *spelled.split("/")), mode)
                    os.utime(os.path.join(copy, *spelled.split("/")), (number * 10**9, time.time()))
                target = self.world.path(f"{number}.zip")
                settings = {**os.environ, "TZ": zone, "LC_ALL": "C", "PYTHONHASHSEED": str(number)}
                subprocess.run(
                    [sys.executable, "-c", script, copy, target], check=True, env=settings
                )
            finally:
                os.umask(old)
            with open(target, "rb") as file:
                made.append(file.read())
        self.assertEqual(made[0], made[1])

    def test_a_folder_too_deep_is_seen_through(self) -> None:
        os.rename(self.folder, self.world.path("work", "inner"))
        os.makedirs(self.folder)
        os.rename(self.world.path("work", "inner"), os.path.join(self.folder, "Foam Release"))
        found = self.press()
        self.assertEqual(found["wrapper"], "Foam Release")
        with zipfile.ZipFile(found["file"]) as archive:
            self.assertIn("about.json", archive.namelist())

    def test_the_identity_stays_or_is_made_anew(self) -> None:
        self.press()
        self.edit({"about.json": json.dumps({**self.about, "uuid": str(uuid.uuid4())}).encode()})
        error = self.press("--version", "1.1", status=2)
        self.assertIn("other identifiers", error["summary"])
        self.assertEqual(json.loads(self._files()["about.json"])["version"], "1.0")
        found = self.press("--mod", "spray", "--version", "1.0", "--fresh")
        self.assertTrue(found["is_fresh"])
        self.assertNotIn(json.loads(self._files()["about.json"])["uuid"], (self.uuid, ""))

    def test_from_installed_the_players_edits_come_along_and_the_game_stays(self) -> None:
        self.press()
        self.lay("foam")
        self.world.write_game("mods/foam/a.dat", b"edited in the game")
        before = self.world.game()
        copy = self.world.path("copy")
        done = self.world.run("press", "--from-installed", "foam", copy, "--json")
        found = json.loads(done.stdout)
        self.assertEqual((found["from_archive"], found["edited_count"]), (True, 1))
        self.folder = copy
        files = self._files()
        self.assertEqual(files.pop("a.dat"), b"edited in the game")
        self.assertEqual(files["README.md"], b"read me")
        self.press("--version", "1.1")
        self.assertEqual(self.world.game(), before)
        self.world.run("shelf", "drop", "foam-1.0.zip", "--yes")
        copy = self.world.path("again")
        done = self.world.run("press", "--from-installed", "foam", copy, "--json")
        self.assertFalse(json.loads(done.stdout)["from_archive"])
        self.assertEqual(sorted(os.listdir(copy)), ["a.dat", "about.json", "charts"])

    def test_bad_calls_change_nothing(self) -> None:
        self.press()
        before = self._files(), os.listdir(self.world.path("work"))
        self.edit({"a.dat": b"other"})
        for words, said in (
            ((), "with another archive"),
            (("--version", "1.1", "--patch-from", "0.9"), "no release 0.9"),
            (("--version", "1.1", "--to", "/nowhere/at/all.zip"), "cannot be written"),
            (("--mod", "No Id", "--version", "1.1"), "--mod"),
            (("--as-diffs",), "--patch-from"),
        ):
            with self.subTest(words=words):
                self.assertIn(said, json.dumps(self.press(*words, status=2)))
        self.edit({"a.dat": before[0]["a.dat"]})
        self.assertEqual((self._files(), os.listdir(self.world.path("work"))), before)
        found = self.world.run("press", self.world.path("game", "data"), "--version", "1")
        self.assertIn("belongs to the game", found.stderr)
        self.edit({"a.dat": b"other"})
        self.assertEqual(self.press("--again")["changes"], None)
        self.assertEqual(self.lay("foam")["a.dat"], b"other")
        os.symlink("a.dat", os.path.join(self.folder, "link"))
        self.assertIn("is a link", self.press("--version", "1.2", status=2)["summary"])
