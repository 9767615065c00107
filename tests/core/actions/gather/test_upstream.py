"""The upstream of a shelf: what one of a team has, the others get; and nothing wrong comes from there."""

from __future__ import annotations

import json
import os
import subprocess

from tests.support import WorldTest, run_rellum


class UpstreamTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.add_release("tides", "1.0", {"mods/tides/t.dat": b"t" * 5000})
        self.world.add_release("swell", "1.0", {"mods/swell/s.dat": b"s" * 5000})
        self.world.adopt()
        for mod in ("tides", "swell"):
            self.world.want(mod)
        self.world.resolve()
        self.shared = self.world.path("shared")
        os.makedirs(self.shared)

    def run_as(self, who: str, *words: str) -> subprocess.CompletedProcess[str]:
        return run_rellum(
            *words, cwd=self.world.path("pack"), shelf=self.world.path(f"shelf-{who}")
        )

    def fetched(self, who: str, status: int = 0) -> list[str]:
        done = self.run_as(who, "fetch", "--json")
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return sorted(each["file"] for each in json.loads(done.stdout)["fetched"])

    def test_what_one_got_by_hand_the_others_get(self) -> None:
        for who in ("one", "two", "three"):
            said = self.run_as(who, "shelf", "upstream", self.shared)
            self.assertIn(self.shared, said.stdout)
        self.assertEqual(self.fetched("two", status=1), [])
        self.run_as("one", "take", self.world.path("downloads"), "--each")
        done = self.run_as("one", "fetch")
        self.assertIn("2 archives put into the upstream", done.stdout + done.stderr)
        self.assertEqual(self.fetched("two"), ["swell-1.0.zip", "tides-1.0.zip"])
        self.assertEqual(self.run_as("two", "apply", "--yes").returncode, 0)
        self.assertEqual(self.world.game()["mods/tides/t.dat"].content, b"t" * 5000)
        # A byte that went wrong there, and a file that is gone, are as if they had never been there.
        files = [
            os.path.join(above, name)
            for above, _, names in os.walk(os.path.join(self.shared, "archives"))
            for name in names
        ]
        with open(files[0], "r+b") as file:
            file.write(b"x")
        os.unlink(files[1])
        self.assertEqual(self.fetched("three", status=1), [])

    def test_by_the_environment_and_without_one(self) -> None:
        self.run_as("one", "take", self.world.path("downloads"), "--each")
        os.environ["RELLUM_UPSTREAM"] = self.shared
        self.assertEqual(self.run_as("one", "fetch").returncode, 0)
        self.assertEqual(len(self.fetched("two")), 2)
        os.environ["RELLUM_UPSTREAM"] = self.world.path("nowhere")
        done = self.run_as("four", "fetch")
        self.assertEqual(done.returncode, 2)
        self.assertIn("is no folder", done.stderr)
        del os.environ["RELLUM_UPSTREAM"]
        self.run_as("two", "shelf", "upstream", self.shared)
        self.run_as("two", "shelf", "upstream", "none")
        self.assertIn("no upstream", self.run_as("two", "shelf", "upstream").stdout)
        self.assertEqual(self.run_as("two", "shelf", "upstream", "/no/such").returncode, 2)
