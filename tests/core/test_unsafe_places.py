"""Folders that no game sheet may make a place: where programs are started from, and where keys lie."""

from __future__ import annotations

import os
import unittest
from unittest import mock

from rellum.core.unsafe_places import unsafe_folder
from tests.support import WorldTest


class UnsafePlacesTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.home = self.world.path("home")
        variables = {
            "HOME": self.home,
            "XDG_CONFIG_HOME": os.path.join(self.home, ".config"),
            "XDG_DATA_HOME": os.path.join(self.home, ".local", "share"),
            "XDG_DOCUMENTS_DIR": os.path.join(self.home, "Documents"),
        }
        self.enterContext(mock.patch.dict(os.environ, variables))

    def test_in_one_or_around_one(self) -> None:
        for folder in (
            ".ssh", ".ssh/deep", ".config/autostart", ".config/systemd/user", ".local/bin/game", "bin",
            ".config", ".local", "", "Library/LaunchAgents/x", "AppData/Roaming/Microsoft/Windows/Start Menu",
        ):  # fmt: skip
            self.assertIsNotNone(unsafe_folder(os.path.join(self.home, folder)), folder)
        for folder in (
            "Documents/Fathomline",
            ".config/fathomline",
            ".local/share/fathomline",
            "Saved Games",
        ):
            self.assertIsNone(unsafe_folder(os.path.join(self.home, folder)), folder)

    @unittest.skipIf(os.name == "nt", "links need rights there")
    def test_a_link_that_leads_there(self) -> None:
        os.makedirs(os.path.join(self.home, ".ssh"))
        os.symlink(os.path.join(self.home, ".ssh"), os.path.join(self.home, "saves"))
        self.assertIsNotNone(unsafe_folder(os.path.join(self.home, "saves")))

    def test_a_sheet_that_names_one_is_refused(self) -> None:
        for place in (
            '"{home}/.ssh"',
            '"{config}/autostart"',
            '"{home}/.local"',
            '"{data}/applications/x"',
        ):
            self.setUp()
            self.world.change_sheet(places=f"keys = {place}")
            self.world.add_release("tides", "1", {"a.desktop": b"x"}, place='to = "@keys/"')
            self.make_resolved()
            said = self.world.run("apply", "--yes")
            self.assertEqual(said.returncode, 2, said.stdout)
            self.assertIn("no mod may write there", said.stderr)
            self.assertFalse(os.path.exists(self.home))


if __name__ == "__main__":
    unittest.main()
