"""Torrents that somebody else made, taken and fetched by the built program."""

from __future__ import annotations

import functools
import hashlib
import json
import os
import random
import unittest
from importlib.util import find_spec
from typing import Any

from benchmarks.file_server import Handler
from benchmarks.swarm_others import new_tracker, seed
from tests.core.fetching.test_torrents import encode, first_form
from tests.serving import serve
from tests.support import WorldTest, write_tree, zip_bytes

NOISE = random.Random(6)


class TorrentsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.files: dict[str, bytes] = {}
        for mod in ("tides", "reefs"):
            content = zip_bytes({f"{mod}.dat": NOISE.randbytes(5000)})
            self.files[f"mods/{mod}.zip"] = content
            card = (
                f'[mod]\nid = "{mod}"\nname = "{mod}"\n[[release]]\nversion = "1"\n'
                f'[[release.file]]\nname = "{mod}.zip"\nsize = {len(content)}\n'
                f'sha256 = "{hashlib.sha256(content).hexdigest()}"\n'
                f'[[release.place]]\nto = "@mods/{mod}/"\n'
            )
            write_tree(self.world.path("catalog", "cards"), {f"{mod}.toml": card.encode()})
        self.files["read me.txt"] = b"how to install"
        self.world.adopt()

    def write_torrent(self, document: Any) -> None:
        write_tree(self.world.path("in"), {"list.torrent": encode(document)})

    def take(self, *words: str, status: int = 0) -> dict[str, Any]:
        done = self.world.run("take", "--json", "../in/list.torrent", *words)
        self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        taken = json.loads(done.stdout)["archives"]
        return {os.path.basename(each["path"]): each for each in taken}

    def test_what_is_whole_is_taken_wherever_it_is(self) -> None:
        self.write_torrent(first_form(self.files))
        nothing = self.take("../in", status=2)["list.torrent"]
        self.assertIn("it lists 3 files, and none of them is in ../in", nothing["reason"])
        write_tree(self.world.path("elsewhere", "our mods", "our mods"), self.files)
        taken = self.take("../elsewhere")
        self.assertEqual(taken.keys(), {"tides.zip", "reefs.zip"})
        self.assertEqual({each["outcome"] for each in taken.values()}, {"taken"})
        said = self.world.run("take", "../in/list.torrent", "../elsewhere")
        self.assertIn("1 file more of it is whole, and no archive", said.stdout + said.stderr)

    def test_what_is_damaged_or_missing_is_said(self) -> None:
        self.write_torrent(first_form(self.files))
        write_tree(self.world.path("in", "our mods"), self.files)
        broken = bytearray(self.files["mods/tides.zip"])
        broken[2000] ^= 1
        write_tree(self.world.path("in", "our mods"), {"mods/tides.zip": bytes(broken)})
        os.unlink(self.world.path("in", "our mods", "read me.txt"))
        taken = self.take(status=1)
        self.assertEqual(taken["reefs.zip"]["outcome"], "taken")
        self.assertIn("1 of about 6 pieces are not as", taken["tides.zip"]["reason"])
        self.assertIn("it is not here", taken["read me.txt"]["reason"])
        self.write_torrent({b"info": 5})
        self.assertIn("no torrent that can be read", self.take(status=2)["list.torrent"]["reason"])

    def test_a_torrent_of_loose_files_is_one_mods_folder(self) -> None:
        loose = {"scripts/reef.txt": b"deep", "art/reef.dat": NOISE.randbytes(3000)}
        self.write_torrent(first_form(loose, name="Reef Pack"))
        write_tree(self.world.path("in", "Reef Pack"), loose)
        self.assertEqual(self.take()["Reef Pack"]["outcome"], "unknown")
        write_tree(self.world.path("in", "Reef Pack"), {"scripts/reef.txt": b"Deep"})
        self.assertEqual(self.take(status=2).keys(), {"reef.txt", "reef.dat"})

    def fetch(self, *, fetched: set[str]) -> None:
        for mod in ("tides", "reefs"):
            self.world.want(mod)
        self.world.resolve()
        words = ("fetch", "--json", "--import", "../in/list.torrent")
        done = self.world.run(*words)
        told = json.loads(done.stdout)
        self.assertEqual({each["file"] for each in told["fetched"]}, fetched, done.stdout)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def test_its_web_seed_has_what_no_card_says_where_it_is(self) -> None:
        write_tree(self.world.path("served", "our mods"), self.files)
        web = serve(self, functools.partial(Handler, directory=self.world.path("served")))
        self.write_torrent(first_form(self.files) | {b"url-list": f"{web}/".encode()})
        self.fetch(fetched={"tides.zip", "reefs.zip"})

    @unittest.skipUnless(find_spec("libtorrent"), "libtorrent is not installed")
    def test_others_have_what_no_server_has(self) -> None:
        tracker = serve(self, new_tracker()) + "/announce"
        document = first_form(self.files) | {b"announce": tracker.encode()}
        self.write_torrent(document)
        write_tree(self.world.path("seed", "our mods"), self.files)
        other = seed(encode(document), self.world.path("seed"))
        self.fetch(fetched={"tides.zip", "reefs.zip"})
        del other
        left = os.listdir(self.world.path("shelf", "fetching"))
        self.assertFalse([name for name in left if name.startswith("swarm")], left)
