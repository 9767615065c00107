"""The built program against the stand-in site, through every trouble that it can make."""

from __future__ import annotations

import hashlib
import json
import os
import random
import re
import signal
import subprocess
import sys
import time
import unittest
import xml.etree.ElementTree as ET
from typing import Any
from unittest import mock

from rellum.demo.site import DOMAIN, Site
from tests.support import WorldTest, write_tree, zip_bytes

NOISE = random.Random(3)


class FetchTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.site = Site(self.world.path("site"), stuck_seconds=8)
        self.addCleanup(self.site.close)
        os.makedirs(self.world.path("site"))
        self.enterContext(mock.patch.dict(os.environ, http_proxy=self.site.address, no_proxy=""))
        self.names: list[str] = []

    def offer(self, mod: str, *hosts: str, size: int = 40_000, more: str = "") -> bytes:
        """Add a mod whose only archive is to be had from these hosts."""
        content = zip_bytes({f"mods/{mod}.dat": NOISE.randbytes(size)})
        name = f"{mod}.zip"
        write_tree(self.world.path("site"), {name: content})
        urls = ", ".join(
            f'"{host}"' if ":" in host else f'"http://{host}.{DOMAIN}/{name}"' for host in hosts
        )
        card = (
            f'[mod]\nid = "{mod}"\nname = "{mod}"\n[[release]]\nversion = "1"\n'
            f'[[release.file]]\nname = "{name}"\nsize = {len(content)}\nfrom = [{urls}]\n'
            f'sha256 = "{hashlib.sha256(content).hexdigest()}"\n{more}'
            '[[release.place]]\nto = "@game/"\n'
        )
        write_tree(self.world.path("catalog", "cards"), {f"{mod}.toml": card.encode()})
        self.names.append(mod)
        return content

    def ready(self) -> None:
        self.world.adopt()
        for name in self.names:
            self.world.want(name)
        self.world.resolve()

    def fetch(self, *words: str) -> tuple[int, Any]:
        result = self.world.run("fetch", "--json", *words)
        self.assertNotIn("Traceback", result.stderr)
        return result.returncode, json.loads(result.stdout)

    def ranges(self, host: str) -> list[str]:
        return [range_ for name, _, range_ in self.site.requests if name.startswith(host)]

    def test_news_from_where_mods_are_published(self) -> None:
        feed = (
            '<feed xmlns="http://www.w3.org/2005/Atom"><entry><title>Fog {}</title></entry></feed>'
        )
        write_tree(
            self.world.path("site"),
            {
                "fog.xml": feed.format("1.2").encode(),
                "old.html": b"Old 1",
                "new.html": b"<p>moved</p>",
            },
        )
        said = '[news]\nfrom = "http://files.{}/{}"\n{}\n'
        atom = (
            'form = "xml"\nversion = ["feed", "entry", "title"]\npattern = "(?P<version>[0-9.]+)$"'
        )
        page = 'pattern = "Old (?P<version>[0-9.]+)"'
        for mod, file, how in (("fog", "fog.xml", atom), ("old", "old.html", page),
                               ("moved", "new.html", page), ("none", "", "")):  # fmt: skip
            self.offer(mod, "files")
            if file:
                with open(
                    self.world.path("catalog", "cards", f"{mod}.toml"), "a", encoding="utf-8"
                ) as card:
                    card.write(said.format(DOMAIN, file, how))
        self.ready()
        self.site.requests.clear()
        result = self.world.run("news", "--look", "--json")
        found = json.loads(result.stdout)
        told = {
            each["mod"]: (each["version_published"], each["is_newer"]) for each in found["mods"]
        }
        self.assertEqual(told, {"fog": ("1.2", True), "old": ("1", False), "moved": (None, False)})
        self.assertEqual(found["without_page"], ["none"])
        result = self.world.run("news", "--look")
        self.assertRegex(result.stdout, rf"fog +1 +1 +1\.2 +http://files\.{DOMAIN}/fog\.xml")
        self.assertIn("For 1 mod, nothing is published that is newer than the card.", result.stdout)
        self.assertIn("3 answers from the last six hours", result.stdout)
        self.assertIn("1 card names no page", result.stdout)
        self.assertIn("may have changed its form", result.stderr)
        self.assertEqual(len(self.site.requests), 3)  # the second time no site was asked

    def test_an_address_is_taken_if_a_card_or_the_person_says_what_it_is(self) -> None:
        self.offer("tides", "files")
        self.offer("unhashed", "files")
        card = self.world.path("catalog", "cards", "unhashed.toml")
        with open(card, encoding="utf-8") as file:
            text = re.sub(r"(?m)^(sha256|size|from) = .*$", "", file.read())
        with open(card, "w", encoding="utf-8") as file:
            file.write(text)
        self.world.adopt()
        known, other = (f"http://files.{DOMAIN}/{name}.zip" for name in ("tides", "unhashed"))
        [taken] = json.loads(self.world.run("take", known, "--json").stdout)["archives"]
        self.assertEqual((taken["outcome"], taken["release"]["mod"]), ("taken", "tides"))
        refused = self.world.run("take", other)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("--as MOD@VERSION", refused.stderr)
        said = self.world.run("take", other, "--as", "unhashed@1")
        self.assertEqual(said.returncode, 0, said.stderr)
        self.assertIn("unhashed 1", said.stdout)
        gone = self.world.run("take", f"http://files.{DOMAIN}/nothing.zip", "--as", "unhashed@1")
        self.assertEqual(gone.returncode, 2)
        self.assertIn("cannot be had", gone.stderr)
        left = os.listdir(self.world.path("shelf", "fetching"))
        self.assertEqual(sorted(left), ["lock", "lock.holder"])

    def test_every_trouble_ends_well(self) -> None:
        self.offer("sound", "files")
        self.offer("cut", "shaky")
        self.offer("stalls", "stuck")
        self.offer("wrong", "mirror", "files")
        self.offer("page", "members", "files")
        self.offer("crowded", "busy")
        self.offer("gone", "nowhere-at-all", "files")
        for name in ("one", "two"):
            self.offer(name, "slow")
        self.ready()
        self.site.folder = self.world.path("site")
        status, told = self.fetch("--stall", "1")
        self.assertEqual((status, told["failed"], told["by_hand"]), (0, [], []))
        self.assertEqual(
            {each["file"] for each in told["fetched"]}, {f"{n}.zip" for n in self.names}
        )
        given_up = {each["file"]: each["given_up"] for each in told["fetched"] if each["given_up"]}
        self.assertEqual(set(given_up), {"wrong.zip", "page.zip"})
        self.assertIn("not what the card says (SHA-256)", given_up["wrong.zip"][0])
        self.assertIn("'Members only - please sign in'", given_up["page.zip"][0])
        # Resumed from where it was cut, not begun again.
        for host in ("shaky", "stuck"):
            first, second = self.ranges(host)
            self.assertEqual(first, "")
            self.assertRegex(second, r"^bytes=2\d{4}-$")
        self.assertEqual(len(self.ranges("busy")), 3)
        self.assertEqual(self.fetch()[1]["here_before_count"], len(self.names))
        self.assertEqual(self.world.run("apply", "--yes").returncode, 0)

    def test_what_a_person_must_get_comes_last(self) -> None:
        self.offer("sound", "files")
        self.offer("hidden", more='page = "http://members.example.invalid/h"\nby-hand = "Knock."\n')
        self.ready()
        result = self.world.run("fetch")
        self.assertEqual(result.returncode, 1)
        self.assertRegex(
            result.stdout,
            r"(?s)fetched  sound 1 .*1 file to download by hand:\n  hidden.zip  40.. kB  hidden 1\n"
            r"    page  http://members.*\n    how   Knock.\nThen: rellum take .*--watch FOLDER\n$",
        )

    def test_all_mirrors_fail(self) -> None:
        self.offer("bad", "mirror", "members", "http://127.0.0.1:9/bad.zip")
        self.ready()
        with mock.patch.dict(os.environ, no_proxy="127.0.0.1"):
            status, told = self.fetch("--tries", "1")
        self.assertEqual((status, told["fetched"]), (1, []))
        words = " ".join(told["failed"][0]["reasons"])
        for part in ("SHA-256", "sign-in", "refuses the connection"):
            self.assertIn(part, words)
        self.assertEqual(os.listdir(self.world.path("shelf", "archives")), [])

    def test_stopped_and_killed_it_goes_on(self) -> None:
        self.offer("large", "files", size=3_000_000)
        self.ready()
        self.site.bytes_per_second = 300_000
        fetching = self.world.path("shelf", "fetching")
        for number, how in enumerate((signal.SIGINT, signal.SIGKILL)):
            process = subprocess.Popen(
                [sys.executable, "-m", "rellum", "fetch"],
                cwd=self.world.path("pack"),
                env={**os.environ, "RELLUM_SHELF": self.world.path("shelf")},
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
                # Whoever runs the tests in the background may have it ignored.
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
            )
            deadline = time.monotonic() + 20
            while self.kept(fetching) < 150_000 * (number + 1) and time.monotonic() < deadline:
                time.sleep(0.02)
            process.send_signal(how)
            _, errors = process.communicate(timeout=20)
            self.assertNotIn("Traceback", errors)
            if how == signal.SIGINT:
                self.assertIn("'rellum fetch' resumes", errors)
                self.assertEqual(process.returncode, 130)
        before = self.kept(fetching)
        self.assertGreater(before, 250_000)
        self.site.bytes_per_second = 0
        self.assertEqual(self.fetch()[0], 0)
        last = int(self.ranges("files")[-1].removeprefix("bytes=").rstrip("-"))
        self.assertGreaterEqual(last, before)

    def kept(self, folder: str) -> int:
        try:
            names = [name for name in os.listdir(folder) if len(name) == 40]
            return sum(os.path.getsize(os.path.join(folder, name)) for name in names)
        except FileNotFoundError:
            return 0

    def test_a_wrong_beginning_is_thrown_away(self) -> None:
        content = self.offer("sound", "files")
        self.ready()
        key = hashlib.sha256(content).hexdigest()[:40]
        write_tree(self.world.path("shelf"), {f"fetching/{key}": b"not these bytes"})
        self.assertEqual(self.fetch()[0], 0)
        self.assertEqual(self.ranges("files"), ["bytes=15-", ""])

    def test_parts_that_are_right_and_no_archive_together(self) -> None:
        content = bytearray(zip_bytes({"mods/cut.dat": NOISE.randbytes(3000)}))
        content[1500] ^= 1
        self.offer_parts(bytes(content))
        self.ready()
        self.name_sources()
        status, told = self.fetch()
        self.assertEqual((status, len(told["fetched"]), len(told["failed"])), (1, 2, 1))
        self.assertIn("is damaged", told["failed"][0]["reasons"][-1])

    def test_file_addresses_and_parts(self) -> None:
        self.offer_parts(zip_bytes({"mods/cut.dat": NOISE.randbytes(3000)}))
        self.ready()
        self.name_sources()
        self.assertEqual(self.fetch()[0], 0)
        self.assertEqual(self.world.run("apply", "--yes").returncode, 0)
        self.assertTrue(os.path.exists(self.world.path("game", "mods", "cut.dat")))

    def test_files_of_this_machine_come_only_from_where_the_pack_says(self) -> None:
        """A card from a stranger must not read whatever lies on the disk."""
        self.offer_parts(b"x" * 3300)
        self.ready()
        status, document = self.fetch()
        self.assertEqual(status, 1)
        self.assertIn("rellum decide source FOLDER", json.dumps(document))
        self.assertEqual(os.listdir(self.world.path("shelf", "archives")), [])

    def name_sources(self) -> None:
        with open(self.world.path("pack", "rellum.toml"), encoding="utf-8") as file:
            text = file.read()
        text = text.replace("[pack]\n", '[pack]\nsources = ["../site"]\n', 1)
        write_tree(self.world.path("pack"), {"rellum.toml": text.encode()})

    def offer_parts(self, content: bytes) -> None:
        """Add a mod whose archive is cut into three files on this machine."""
        card = '[mod]\nid = "cut"\nname = "Cut"\n[[release]]\nversion = "1"\n'
        for number in range(3):
            part = content[number * 1100 : (number + 1) * 1100]
            name = f"cut.zip.{number + 1:03}"
            write_tree(self.world.path("site"), {name: part})
            card += (
                f'[[release.file]]\nname = "{name}"\nsize = {len(part)}\n'
                f'sha256 = "{hashlib.sha256(part).hexdigest()}"\nfrom = ["file:../../site/{name}"]\n'
            )
        card += '[[release.place]]\nto = "@game/"\n'
        write_tree(self.world.path("catalog", "cards"), {"cut.toml": card.encode()})
        self.names.append("cut")

    def test_metalink_both_ways(self) -> None:
        content = self.offer("listed", "members")
        self.offer("hidden", more='page = "http://members.example.invalid/h"\n')
        self.ready()
        result = self.world.run("fetch", "--export", "missing.meta4")
        self.assertIn("2 missing files listed", result.stdout)
        path = self.world.path("pack", "missing.meta4")
        root = ET.parse(path).getroot()
        space = {"m": "urn:ietf:params:xml:ns:metalink"}
        [listed] = [
            each for each in root.findall("m:file", space) if each.get("name") == "listed.zip"
        ]
        self.assertEqual(listed.findtext("m:size", None, space), str(len(content)))
        digest = listed.find("m:hash[@type='sha-256']", space)
        self.assertEqual(digest is not None and digest.text, hashlib.sha256(content).hexdigest())
        with open(path, encoding="utf-8") as file:
            text = file.read()
        with open(path, "w", encoding="utf-8") as file:
            file.write(
                text.replace("//members.example.invalid/listed", "//files.example.invalid/listed")
            )
        told = self.fetch("--import", "missing.meta4")[1]
        self.assertEqual([each["file"] for each in told["fetched"]], ["listed.zip"])
        for wrong, words in (
            ("<metalink", ":1: not valid XML"),
            ("<metalink/>", "not a Metalink 4 file"),
            ('<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>', "document type"),
            ('<metalink xmlns="urn:ietf:params:xml:ns:metalink"/>', "lists no file"),
        ):
            write_tree(self.world.path("pack"), {"bad.meta4": wrong.encode()})
            result = self.world.run("fetch", "--import", "bad.meta4")
            self.assertEqual(result.returncode, 2)
            self.assertIn(words, result.stderr)

    def test_room_and_another_fetch(self) -> None:
        self.offer("vast", "files", more="unpacked = 900_000_000_000_000\n")
        self.ready()
        result = self.world.run("fetch")
        self.assertEqual(result.returncode, 2)
        self.assertIn("900,000,000,000,000 when unpacked", result.stderr)
        self.assertEqual(self.site.requests, [])

    def test_more_bytes_than_there_are(self) -> None:
        self.offer("small", "files", size=10)
        self.ready()
        write_tree(self.world.path("site"), {"small.zip": bytes(5000)})
        status, told = self.fetch()
        self.assertEqual(status, 1)
        self.assertRegex(told["failed"][0]["reasons"][0], "zero bytes|more than")


if __name__ == "__main__":
    unittest.main()
