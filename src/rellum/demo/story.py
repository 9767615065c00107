"""The demo's story: the real commands, run one after another as a curator would."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from rellum.demo.game import game_files
from rellum.demo.site import Site
from rellum.demo.world import NEXT_VERSION, VERSION, DemoPlaces

Say = Callable[[str], None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene:
    """One step: what happens, the command as typed (or nothing), and the exit status it must have."""

    telling: str
    command: str = ""
    status: int = 0
    act: Callable[[str], None] | None = None


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


def _name_places_and_graft(game: str) -> None:
    _add_to_pack(
        game,
        """
# Where the player's settings lie.
[game.places]
settings = "../player/settings"

[[graft]]
name = "strait-as-north"
donor = "../old-game"
take = "harbours/strait/**"
slot = "@harbours/north/"
""",
    )


def _play_with_lamps(game: str) -> None:
    settings = os.path.join(os.path.dirname(game), "player", "settings", "lamps.ini")
    with open(settings, encoding="utf-8") as file:
        text = file.read()
    with open(settings, "w", encoding="utf-8") as file:
        file.write(text.replace("count = 12", "count = 40") + "colour = amber   ; mine\n")
    preset = os.path.join(game, "mods", "lagoon-lights", "presets", "storm.ini")
    with open(preset, "w", encoding="utf-8") as file:
        file.write("[lamps]\nwarmth = 9\n")


def _player_wins(game: str) -> None:
    _add_to_pack(game, '\n[settings]\n"@settings/lamps.ini" = "mine"\n')


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


def _add_to_pack(game: str, text: str) -> None:
    pack_file = os.path.join(os.path.dirname(game), "pack", "rellum.toml")
    with open(pack_file, "a", encoding="utf-8") as file:
        file.write(text)


def _trust_what_was_tried(game: str) -> None:
    pack_file = os.path.join(os.path.dirname(game), "pack", "rellum.toml")
    with open(pack_file, encoding="utf-8") as file:
        text = file.read()
    with open(pack_file, "w", encoding="utf-8") as file:
        file.write(text.replace("[pack]\n", '[pack]\ntrust = "tried"\n', 1))


_SCENES = (
    Scene(
        telling="A game that was played with mods before. What is it, and are its files as known?",
        command="rellum identify ../game --catalog ../catalog",
        status=1,
        act=mod_by_hand,
    ),
    Scene(
        telling="Adopt it: vanilla is what is known of 1.6.0, and not what lies there.",
        command="rellum adopt ../game",
    ),
    Scene(telling="Out with what is nobody's; it can come back.", command="rellum sweep --yes"),
    Scene(
        telling="And the file that was changed, from a clean copy.",
        command="rellum restore --damaged --from ../backup --yes",
    ),
    Scene(telling="What was replaced is kept.", command="rellum kept"),
    Scene(telling="", command="rellum check"),
    Scene(
        telling="What was downloaded already, names and all: check each, know which release it is.",
        command="rellum take ../downloads --each",
        status=1,
    ),
    Scene(telling="Say what the pack shall have.", command="rellum want tidal-currents '>=3'"),
    Scene(telling="", command="rellum want clear-water"),
    Scene(telling="", command="rellum want long-swell"),
    Scene(telling="", command="rellum want brasswork"),
    Scene(telling="", command="rellum want ice-breaker"),
    Scene(
        telling="… and one by the names of its releases.",
        command="rellum want star-charts '>=middle watch'",
    ),
    Scene(
        telling="One release is to stay as it is for now.",
        command="rellum hold long-swell 1.0 --reason '1.1 made everybody seasick'",
    ),
    Scene(telling="Is the catalog sound?", command="rellum vet"),
    Scene(telling="Choose releases that go together.", command="rellum resolve"),
    Scene(
        telling="Old Lights does not say that it is for this game: refused, with what would help.",
        command="rellum want old-lights",
    ),
    Scene(telling="", command="rellum resolve", status=1),
    Scene(
        telling="Somebody tried it and it works. The pack may trust that.",
        act=_trust_what_was_tried,
    ),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="Why this loader, and why not a newer one?", command="rellum why keelson"),
    Scene(
        telling="Get the rest. Sites cut, stall, ask to wait, send a wrong byte or a sign-in page.",
        command="rellum fetch --stall 2",
        status=1,
    ),
    Scene(
        telling="One must be got by hand. It appears among the downloads, and is taken as it does.",
        act=_get_by_hand,
    ),
    Scene(telling="", command="rellum take --watch ../downloads"),
    Scene(telling="Which mods bring the same files, and who wins?", command="rellum conflicts"),
    Scene(telling="What would that do to the game?", command="rellum preview"),
    Scene(telling="Do it: all of it, or nothing.", command="rellum apply --yes"),
    Scene(telling="Does the game start?", command="python ../game/fathomline.py"),
    Scene(telling="It does: write that down.", command="rellum trial works --note 'all calm'"),
    Scene(
        telling="A state to come back to, whatever happens.",
        command="rellum checkpoint calm --good",
    ),
    Scene(telling="Is the folder as it was left?", command="rellum check"),
    Scene(
        telling="By hand, a file is damaged, another deleted, and a note dropped among the mods.",
        act=_break_by_hand,
    ),
    Scene(telling="The game no longer starts.", command="python ../game/fathomline.py", status=1),
    Scene(telling="What is wrong, and whose is it?", command="rellum check", status=1),
    Scene(telling="Vanilla again for one file …", command="rellum restore data/sea.dat --yes"),
    Scene(
        telling="… or just what is damaged, from the shelf and a clean copy …",
        command="rellum restore --damaged --from ../backup --yes",
    ),
    Scene(telling="… and the line-up again, whole.", command="rellum apply --yes"),
    Scene(
        telling="The note is nobody's: out of the game it goes, and could come back.",
        command="rellum sweep --yes",
    ),
    Scene(telling="It starts.", command="python ../game/fathomline.py"),
    Scene(telling="The sea may get rougher again.", command="rellum hold long-swell --off"),
    Scene(telling="What is new, and what would taking it do?", command="rellum news"),
    Scene(telling="", command="rellum resolve --fresh long-swell"),
    Scene(
        telling="Lagoon Lights asks how bright; it reaches into the game's container and settings.",
        command="rellum want lagoon-lights =1.0 --option glow=bright",
    ),
    Scene(
        telling="The quay in the north is to be the old strait's pier, from an older game.",
        act=_name_places_and_graft,
    ),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="", command="rellum fetch"),
    Scene(telling="", command="rellum preview"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="python ../game/fathomline.py"),
    Scene(
        telling="The player sets the lamps, adds a preset, and plays. That is no drift.",
        act=_play_with_lamps,
    ),
    Scene(telling="", command="rellum check"),
    Scene(
        telling="A newer release: both changed the count of lamps.",
        command="rellum want lagoon-lights",
    ),
    Scene(telling="", command="rellum resolve --fresh lagoon-lights"),
    Scene(telling="", command="rellum fetch"),
    Scene(
        telling="Nobody says whose count it is: refused.", command="rellum apply --yes", status=2
    ),
    Scene(telling="The pack says it: the player's.", act=_player_wins),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="python -c \"print(open('../player/settings/lamps.ini').read())\""),
    Scene(telling="", command="rellum drop lagoon-lights"),
    Scene(telling="The preset waits for the mod to come back.", command="rellum apply --yes"),
    Scene(
        telling="Could the pack move to another version of the game?",
        command="rellum outlook --figure outlook.png",
    ),
    Scene(
        telling="One mod is enough of brass. Drop it: only its files go.",
        command="rellum drop brasswork",
    ),
    Scene(telling="The newer swell must come first.", command="rellum fetch"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(
        telling="Two wants that cannot go together are refused, with the reason.",
        command="rellum want still-water",
    ),
    Scene(telling="", command="rellum resolve", status=1),
    Scene(telling="", command="rellum drop still-water"),
    Scene(
        telling="A tuning tool is about to change the game. What it does shall be a mod of its own.",
        command="rellum absorb --begin",
    ),
    Scene(telling="", act=_run_tuning_tool),
    Scene(telling="", command="rellum absorb --end --as tuned-ropes --yes"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="Not worth it: out it goes, and vanilla is back where it was."),
    Scene(telling="", command="rellum drop tuned-ropes"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(
        telling="A failing disk spoils three files. That is damage, and no update of the game.",
        command="rellum check",
        status=1,
        act=_spoil,
    ),
    Scene(telling="", command="rellum restore --damaged --from ../backup --yes"),
    Scene(
        telling="Overnight, the store updates the game.",
        act=update_overnight,
        command="rellum check",
        status=1,
    ),
    Scene(
        telling="Would the pack go with that? It would, but two newer releases are not here.",
        command="rellum preview",
        status=2,
    ),
    Scene(
        telling="Not tonight: the old files come back, and the store is kept out.",
        command="rellum restore --damaged --from ../backup --yes",
    ),
    Scene(telling="", command="rellum guard on"),
    Scene(telling="", command="rellum check"),
    Scene(telling="", command="python ../game/fathomline.py"),
    Scene(
        telling="A week later it is updated all the same, and the pack goes with it.",
        act=update_overnight,
    ),
    Scene(telling="", command="rellum guard off"),
    Scene(telling="", command="rellum resolve"),
    Scene(telling="", command="rellum fetch"),
    Scene(telling="", command="rellum preview"),
    Scene(telling="", command="rellum apply --yes"),
    Scene(telling="", command="python ../game/fathomline.py"),
    Scene(
        telling="It does not feel right. Back over the update, given the old files; and further back.",
        command="rellum rewind --yes --from ../backup",
    ),
    Scene(telling="", command="rellum checkpoint --list"),
    Scene(telling="", command="rellum rewind --good --yes"),
    Scene(telling="", command="python ../game/fathomline.py"),
    Scene(telling="All the way back to vanilla.", command="rellum restore --all --yes"),
    Scene(telling="And it starts as on the first day.", command="python ../game/fathomline.py"),
)


def tell(places: DemoPlaces, say: Say) -> int:
    """Play all scenes; return 0, or 1 where a command did not end as it should."""
    with Site(places.folder("site")) as site:
        if not _play(places, site.address, say):
            return 1
    say("")
    differing = sorted(_differing(places.folder("game")))
    if differing:
        say(f"Not as on the first day: {', '.join(differing)}")
        return 1
    count = len(game_files(VERSION))
    say(f"All {count} vanilla files compared, byte for byte: the game is as it was adopted.")
    say(f"Look around in {places.root}; the pack is in {places.folder('pack')}.")
    return 0


def _play(places: DemoPlaces, proxy: str, say: Say) -> bool:
    """Play all scenes; False where a command did not end as it should."""
    for scene in _SCENES:
        if scene.telling:
            say("")
            say(f"# {scene.telling}")
        if scene.act:
            scene.act(places.folder("game"))
        if not scene.command:
            continue
        say(f"$ {scene.command}")
        sys.stdout.flush()
        status = _run(scene.command, places, proxy)
        if status != scene.status:
            say(f"The demo stops here: exit status {status}, where {scene.status} was right.")
            return False
    return True


def _run(command: str, places: DemoPlaces, proxy: str) -> int:
    """Run a command as typed, in the pack's folder, with the demo's own shelf."""
    pack = places.folder("pack")
    name, *words = shlex.split(command)
    program = [sys.executable, "-m", "rellum"] if name == "rellum" else [sys.executable]
    environment = {
        **os.environ,
        "RELLUM_SHELF": places.folder("shelf"),
        "RELLUM_CACHE": os.path.join(places.folder("shelf"), "cache"),
        "PYTHONUTF8": "1",
        # The stand-in site is a proxy, so that the cards' addresses can look like addresses.
        "http_proxy": proxy,
        "no_proxy": "",
    }
    result = subprocess.run(
        [*program, *words],
        cwd=pack,
        env=environment,
        stdin=subprocess.DEVNULL,
        stderr=subprocess.STDOUT,
        check=False,
    )
    return result.returncode


def _differing(game: str) -> Iterator[str]:
    """Yield the files that are not as the game was made, other than what is known to be beside it."""
    expected = game_files(VERSION)
    for name, content in expected.items():
        try:
            with open(os.path.join(game, *name.split("/")), "rb") as file:
                if file.read() != content:
                    yield name
        except OSError:
            yield name
    beside = {"mods/notes.txt", "logs/last-start.log"}
    for folder, _, names in os.walk(game):
        for name in names:
            path = os.path.relpath(os.path.join(folder, name), game).replace(os.sep, "/")
            if path not in expected and path not in beside:
                yield path
