"""What a game folder tells, on folders drawn at random by a model that knows nothing of the rules."""

from __future__ import annotations

import random
import re
import unittest
from dataclasses import dataclass, field

from rellum.core.describing.game_signs import GameFile, GameSigns, signs_of

WORDS = (
    "amber",
    "bell",
    "cinder",
    "drift",
    "ember",
    "fern",
    "glass",
    "harrow",
    "ink",
    "juniper",
    "moss",
)
TRAPS = {
    "menu.xml": '<?xml version="1.0"?>\n<menu xmlns="urn:menu:1.1"/>\n',
    "licence.txt": "GENERAL LICENCE\nVersion 2, June 1991\n",
    "third-party/engine.txt": "Engine runtime, version 3.1.4\n",
    "data/levels/first.txt": "version = 1.00\nname = first\n",
    "mods/base/info.ini": "[mod]\nversion = 0.1\n",
    "requirements.txt": "Needs 2.5 GB of disk and driver 531.18\n",
}
TELLS = {
    "version.txt": "{name}\nVersion: {version}\n",
    "changes.md": "# Changes\n\n## {version}\n\n- more\n\n## {before}\n\n- less\n",
    "version.json": '{{"product": "{name}", "version": "{version}"}}',
    "readme.txt": "{name} version {version}\nThank you.\n",
    "game.ini": "[game]\nname={name}\nversion={version}\n",
}


@dataclass
class World:
    """A made-up game: its files, and what is true of it."""

    name: str
    version: str
    program: str
    files: dict[str, bytes] = field(default_factory=dict)
    players: set[str] = field(default_factory=set)
    written: set[str] = field(default_factory=set)

    def signs(self) -> GameSigns:
        files = [
            GameFile(path=path, size=len(content), is_executable=path == self.program)
            for path, content in self.files.items()
        ]
        folders = {path[:at] for path in self.files for at, sign in enumerate(path) if sign == "/"}
        return signs_of(
            self.name, files, sorted(folders), lambda path, count: self.files[path][:count]
        )

    def next(self, draw: random.Random) -> World:
        """Return the game after an update: other contents, another version, new and renamed files."""
        version = f"{self.version.split('.')[0]}.{int(self.version.split('.')[1]) + 1}"
        files = {
            re.sub(r"all\.\w+\.", "all.new.", path.replace(self.version, version)): draw.randbytes(
                len(content) + 5
            )
            for path, content in self.files.items()
        }
        return World(self.name, version, self.program, files)


def world(draw: random.Random) -> World:
    name = " ".join(draw.sample(WORDS, 2)).title()
    version = f"{draw.randrange(4)}.{draw.randrange(20)}" + draw.choice(
        ["", f".{draw.randrange(9)}"]
    )
    stem = draw.choice([name.lower().replace(" ", ""), name.replace(" ", ""), "start", "game"])
    program = draw.choice([f"{stem}.exe", f"{stem}.x86_64", f"bin/{stem}", f"{stem}.bin"])
    found = World(name, version, program)
    says = f"\0{name} {version}\0saves/\0".encode() if draw.random() < 0.6 else b"\0"
    head = b"MZ" if program.endswith(".exe") else b"\x7fELF"
    found.files[program] = head + draw.randbytes(9_000) + says
    for _ in range(draw.randrange(2, 9)):
        folder = draw.choice(["data", "assets/art", "content", "data/music"])
        found.files[f"{folder}/{draw.choice(WORDS)}{draw.randrange(99)}.dat"] = draw.randbytes(
            draw.randrange(100, 20_000)
        )
    if draw.random() < 0.3:
        found.files[f"data/all-{version}.pak"] = draw.randbytes(30_000)
    if draw.random() < 0.2:
        found.files[f"data/all.{draw.randbytes(6).hex()}.dat"] = draw.randbytes(40_000)
    before = f"{version.split('.')[0]}.0"
    for file in draw.sample(sorted(TELLS), draw.randrange(4)):
        found.files[file] = TELLS[file].format(name=name, version=version, before=before).encode()
    for file in draw.sample(sorted(TRAPS), draw.randrange(4)):
        found.files[file] = TRAPS[file].encode()
    for folder in draw.sample(
        ["saves", "Screenshots", "Saved Games", "worlds", "profiles"], draw.randrange(3)
    ):
        found.files[f"{folder}/mine.sav"] = b"mine"
        found.players.add(folder)
    for folder in draw.sample(["logs", "cache", "crash-reports"], draw.randrange(2)):
        found.files[f"{folder}/last.txt"] = b"version 9.9"
        found.written.add(folder)
    return found


class GameSignsTest(unittest.TestCase):
    def setUp(self) -> None:
        draw = random.Random(20)
        self.worlds = [world(draw) for _ in range(300)]
        self.signs = [each.signs() for each in self.worlds]
        self.draw = draw

    def test_marks_are_few_and_still_there_after_an_update(self) -> None:
        stays = 0
        for each, signs in zip(self.worlds, self.signs, strict=True):
            self.assertIn(len(signs.marks), (1, 2))
            self.assertIn(each.program, signs.marks)
            stays += set(signs.marks) <= set(each.next(self.draw).files)
        self.assertGreaterEqual(stays / len(self.worlds), 0.9)

    def test_a_version_that_counts_as_sure_is_right(self) -> None:
        sure = [
            (signs.versions[0].version, each.version)
            for each, signs in zip(self.worlds, self.signs, strict=True)
            if signs.versions and signs.versions[0].agrees
        ]
        self.assertGreater(len(sure), 60)
        wrong = [each for each in sure if each[0] != each[1]]
        self.assertLessEqual(len(wrong) / len(sure), 0.03, wrong)

    def test_nothing_of_the_players_is_passed_over(self) -> None:
        for each, signs in zip(self.worlds, self.signs, strict=True):
            self.assertEqual(set(signs.players), each.players)
            self.assertEqual(set(signs.written_by_game), each.written)


if __name__ == "__main__":
    unittest.main()
