"""The scenes of the demo's story: what happens, and the commands that a curator types."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from rellum.demo.game import game_files
from rellum.demo.world import NEXT_VERSION, VERSION, write_files


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene:
    """One step: what happens, the command as typed (or nothing), and the exit status it must have.

    ``who`` types it: the curator, or a friend, who has a game, a pack and a shelf of their own.
    """

    telling: str
    command: str = ""
    status: int = 0
    act: Callable[[str], None] | None = None
    who: Literal["curator", "friend"] = "curator"


def _get_by_hand(game: str) -> None:
    root = os.path.dirname(game)
    name = "icebreaker13.zip"
    shutil.copy(os.path.join(root, "site", name), os.path.join(root, "downloads", name))


def _break_by_hand(game: str) -> None:
    with open(os.path.join(game, "data", "sea.dat"), "r+b") as file:
        file.write(b"oops, not a sea any more")
    os.unlink(os.path.join(game, "mods", "tidal-currents", "tides.dat"))
    with open(os.path.join(game, "mods", "notes.txt"), "w", encoding="utf-8") as file:
        file.write("my own notes\n")


def _play_with_lamps(game: str) -> None:
    settings = os.path.join(os.path.dirname(game), "player", "settings", "lamps.ini")
    with open(settings, encoding="utf-8") as file:
        text = file.read()
    with open(settings, "w", encoding="utf-8") as file:
        file.write(text.replace("count = 12", "count = 40") + "colour = amber   ; mine\n")
    preset = os.path.join(game, "mods", "lagoon-lights", "presets", "storm.ini")
    with open(preset, "w", encoding="utf-8") as file:
        file.write("[lamps]\nwarmth = 9\n")


def _friends_game(game: str) -> None:
    friend = os.path.join(os.path.dirname(game), "friend")
    write_files(os.path.join(friend, "game"), game_files(VERSION))
    os.makedirs(os.path.join(friend, "pack"))


def _false_mirror(game: str) -> None:
    """Copy the feed, with a byte changed in its timestamp."""
    root = os.path.dirname(game)
    shutil.copytree(os.path.join(root, "feed"), os.path.join(root, "mirror"))
    file = os.path.join(root, "mirror", "metadata", "timestamp.json")
    with open(file, encoding="utf-8") as stream:
        text = stream.read()
    with open(file, "w", encoding="utf-8") as stream:
        stream.write(text.replace('"version":2', '"version":3'))


def _save(game: str) -> None:
    folder = os.path.join(game, "saves")
    os.makedirs(folder, exist_ok=True)
    with open(os.path.join(folder, "north-sea.sav"), "w", encoding="utf-8") as file:
        file.write("day 12\ncable 80 miles\n")


def _spoil_save(game: str) -> None:
    with open(os.path.join(game, "saves", "north-sea.sav"), "w", encoding="utf-8") as file:
        file.write("day 12\ncable lost\n")


def _keep_copy(game: str) -> None:
    shutil.copytree(game, os.path.join(os.path.dirname(game), "backup"))


def mod_by_hand(game: str) -> None:
    """As most games are that somebody comes with: played with mods for a while."""
    _keep_copy(game)
    os.makedirs(os.path.join(game, "mods", "driftwood"))
    for name, text in (("about.ini", "id = driftwood\n"), ("drift.dat", "wood\n" * 90)):
        with open(os.path.join(game, "mods", "driftwood", name), "w", encoding="utf-8") as file:
            file.write(text)
    with open(os.path.join(game, "textures", "bed.tex"), "ab") as file:
        file.write(b"greener, by hand")


def _spoil(game: str) -> None:
    """As a failing disk does."""
    for name in ("data/core.pak", "maps/atoll.map", "sounds/sonar.snd"):
        with open(os.path.join(game, *name.split("/")), "r+b") as file:
            file.write(b"\0" * 512)


def _run_tuning_tool(game: str) -> None:
    with open(os.path.join(game, "settings.ini"), "a", encoding="utf-8") as file:
        file.write("\n[tuned]\nropes = tight\n")
    with open(os.path.join(game, "tuned.txt"), "w", encoding="utf-8") as file:
        file.write("tuned by a tool\n")


def update_overnight(game: str) -> None:
    """As a store does: its own files over whatever stands there."""
    before = game_files(VERSION)
    for name, content in game_files(NEXT_VERSION).items():
        if before.get(name) != content:
            with open(os.path.join(game, *name.split("/")), "wb") as file:
                file.write(content)


SCENES = (
    Scene(
        telling="A game that had mods before. Which game is it, and which files differ?",
        command="rellum identify ../game --catalog ../catalog",
        status=1,
        act=mod_by_hand,
    ),
    Scene(
        telling="Adopt it. The known files of 1.6.0 count as vanilla, not what is in the folder.",
        command="rellum adopt ../game",
    ),
    Scene(
        telling="Move the foreign files out; a command brings them back.",
        command="rellum sweep --yes",
    ),
    Scene(
        telling="Restore the changed file from a clean copy.",
        command="rellum restore --damaged --from ../backup --yes",
    ),
    Scene(telling="The replaced file is kept.", command="rellum kept"),
    Scene(
        telling="Some archives were downloaded before. Check each one and recognise its release.",
        command="rellum take ../downloads --each",
        status=1,
    ),
    Scene(
        telling="Choose the mods of the pack.",
        command="rellum want tidal-currents@3+ clear-water long-swell brasswork ice-breaker",
    ),
    Scene(
        telling="… and one whose releases have names instead of numbers.",
        command="rellum want star-charts '>=middle watch'",
    ),
    Scene(
        telling="Pin one release for now.",
        command="rellum hold long-swell 1.0 --reason '1.1 made everybody seasick'",
    ),
    Scene(telling="Does the catalog have mistakes?", command="rellum vet"),
    Scene(telling="Choose releases that work together.", command="rellum resolve"),
    Scene(
        telling="Old Lights is not declared for this game version: refused, with what would help.",
        command="rellum want old-lights",
    ),
    Scene(telling="", command="rellum resolve", status=1),
    Scene(
        telling="Somebody tried it and it works. The pack may trust that.",
        command="rellum decide trust tried",
    ),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="Why this loader, and why not a newer one?", command="rellum why keelson"),
    Scene(
        telling="Download the rest. Sites break off, stall, ask to wait, send wrong bytes or a sign-in page.",
        command="rellum fetch --stall 2",
        status=1,
    ),
    Scene(
        telling="Download one by hand. Rellum takes it as soon as it appears.",
        act=_get_by_hand,
    ),
    Scene(telling="", command="rellum take --watch ../downloads"),
    Scene(telling="Which mods bring the same files, and who wins?", command="rellum conflicts"),
    Scene(telling="What would that do to the game?", command="rellum preview"),
    Scene(telling="Do it, all or nothing.", command="rellum apply --yes"),
    Scene(
        telling="Does the game start? Its log is compared with the line-up, and the answer recorded.",
        command="rellum play --outcome log",
    ),
    Scene(
        telling="Give the checkpoint a name to go back to.",
        command="rellum checkpoint calm --good",
    ),
    Scene(telling="How does the pack stand?", command="rellum status"),
    Scene(telling="A list of the mods, for a chat.", command="rellum list --form text"),
    Scene(
        telling="The player has saved. Play vanilla for an evening, and come back.",
        act=_save,
        command="rellum variant use vanilla --yes",
    ),
    Scene(telling="", command="rellum play --outcome log"),
    Scene(telling="", command="rellum variant use main --yes"),
    Scene(telling="", command="rellum variant"),
    Scene(
        telling="A save goes wrong. Bring back how it was.",
        act=_spoil_save,
        command="rellum backup compare",
    ),
    Scene(telling="", command="rellum backup back --yes"),
    Scene(
        telling="Two more mods. No card says that they do not go together.",
        command="rellum want night-buoys fog-horns",
    ),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="", command="rellum fetch --stall 2"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="rellum play --outcome log", status=1),
    Scene(
        telling="Which mod is it? Halve the pack until it is found; the game's log answers.",
        command="rellum hunt --log",
    ),
    Scene(telling="Drop one of the two.", command="rellum drop fog-horns"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="rellum play --outcome log"),
    Scene(
        telling="A friend wants exactly this. Publish it; her game is on another machine.",
        command="rellum publish ../feed --keys --words 'The calm sea'",
        act=_friends_game,
    ),
    Scene(
        telling="",
        command="rellum follow ../../feed --game ../game --trust FINGERPRINT --yes",
        who="friend",
    ),
    Scene(telling="", command="rellum check --against ../../feed", who="friend"),
    Scene(telling="What was that, all in all?", command="rellum history"),
    Scene(telling="And against the calm day?", command="rellum compare calm"),
    Scene(telling="Without the buoys, too, for now.", command="rellum drop night-buoys"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(
        telling="The friend gets what changed, and keeps the fog horns, which she wants herself.",
        command="rellum publish ../feed --words 'Without the buoys'",
    ),
    Scene(telling="", command="rellum want fog-horns", who="friend"),
    Scene(telling="", command="rellum follow --yes", who="friend"),
    Scene(
        telling="Somebody puts up a mirror of the feed, and changes a byte in it.",
        command="rellum follow ../../mirror --yes",
        act=_false_mirror,
        status=2,
        who="friend",
    ),
    Scene(telling="Is there any drift?", command="rellum check"),
    Scene(
        telling="Somebody damages a file, deletes another, and leaves a note among the mods.",
        act=_break_by_hand,
    ),
    Scene(telling="The game no longer starts.", command="python ../game/fathomline.py", status=1),
    Scene(telling="What is wrong, and whose files are they?", command="rellum check", status=1),
    Scene(telling="Restore vanilla for one file …", command="rellum restore data/sea.dat --yes"),
    Scene(
        telling="… or repair everything that is damaged, from the shelf and a clean copy …",
        command="rellum restore --damaged --from ../backup --yes",
    ),
    Scene(telling="… and install the whole line-up again.", command="rellum apply --yes"),
    Scene(
        telling="The note is foreign. Move it out of the game; it can come back.",
        command="rellum sweep --yes",
    ),
    Scene(telling="It starts.", command="python ../game/fathomline.py"),
    Scene(telling="Unpin the release.", command="rellum hold long-swell --off"),
    Scene(telling="What is new, and what would change?", command="rellum news"),
    Scene(
        telling="Ask where mods are published for versions that no card has yet.",
        command="rellum news --look",
    ),
    Scene(telling="", command="rellum resolve --fresh long-swell"),
    Scene(
        telling="Lagoon Lights has an option, and changes a container and settings of the game.",
        command="rellum want lagoon-lights =1.0 --option glow=bright",
    ),
    Scene(
        telling="Its settings lie in the player's own folder.",
        command="rellum decide place settings ../player/settings",
    ),
    Scene(
        telling="Graft the old strait's pier from an older game onto the quay in the north.",
        command="rellum graft strait-as-north --donor ../old-game --take 'harbours/strait/**' --slot "
        "harbours/north",
    ),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="", command="rellum fetch"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="python ../game/fathomline.py"),
    Scene(
        telling="The player changes the lamps, adds a preset, and plays. That is not drift.",
        act=_play_with_lamps,
    ),
    Scene(telling="", command="rellum check"),
    Scene(
        telling="A newer release. Both sides changed the number of lamps.",
        command="rellum want lagoon-lights",
    ),
    Scene(telling="", command="rellum resolve --fresh lagoon-lights"),
    Scene(telling="", command="rellum fetch"),
    Scene(
        telling="The pack does not say who wins: refused.", command="rellum apply --yes", status=2
    ),
    Scene(
        telling="Now it does: the player wins.",
        command="rellum decide settings @settings/lamps.ini mine",
    ),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="python -c \"print(open('../player/settings/lamps.ini').read())\""),
    Scene(telling="", command="rellum drop lagoon-lights"),
    Scene(
        telling="Rellum keeps the preset for when the mod comes back.", command="rellum apply --yes"
    ),
    Scene(
        telling="Could the pack move to another version of the game?",
        command="rellum outlook --figure outlook.png",
    ),
    Scene(
        telling="Drop a mod: only its files go.",
        command="rellum drop brasswork",
    ),
    Scene(telling="Nothing is missing for that.", command="rellum fetch"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(
        telling="Two wants that exclude each other are refused, with the reason.",
        command="rellum want still-water",
    ),
    Scene(telling="", command="rellum resolve", status=1),
    Scene(telling="", command="rellum drop still-water"),
    Scene(
        telling="A tuning tool is about to change the game. Turn its changes into a mod.",
        command="rellum absorb --begin",
    ),
    Scene(telling="", act=_run_tuning_tool),
    Scene(telling="", command="rellum absorb --end --as tuned-ropes --yes"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="Not worth it. Remove it, and vanilla comes back."),
    Scene(telling="", command="rellum drop tuned-ropes"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(
        telling="A failing disk damages three files. Rellum does not take that for a game update.",
        command="rellum check",
        status=1,
        act=_spoil,
    ),
    Scene(telling="", command="rellum restore --damaged --from ../backup --yes"),
    Scene(
        telling="The store updates the game overnight.",
        act=update_overnight,
        command="rellum check",
        status=1,
    ),
    Scene(
        telling="Can the pack follow? Yes, but two newer releases are missing.",
        command="rellum preview",
        status=2,
    ),
    Scene(
        telling="Not tonight. Restore the old files, and block the store.",
        command="rellum restore --damaged --from ../backup --yes",
    ),
    Scene(telling="", command="rellum guard on"),
    Scene(telling="", command="rellum check"),
    Scene(
        telling="A week later the game updates anyway, and the pack follows.",
        act=update_overnight,
    ),
    Scene(telling="", command="rellum guard off"),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="", command="rellum fetch"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="python ../game/fathomline.py"),
    Scene(
        telling="It does not feel right. Go back over the update with the old files, then further back.",
        command="rellum rewind --yes --from ../backup",
    ),
    Scene(telling="", command="rellum checkpoint --list"),
    Scene(telling="", command="rellum rewind --good --yes"),
    Scene(telling="What takes space?", command="rellum space"),
    Scene(telling="A page to keep or to hand on.", command="rellum report health.html"),
    Scene(telling="All the way back to vanilla.", command="rellum restore --all --yes"),
    Scene(telling="It starts as on the first day.", command="python ../game/fathomline.py"),
)
