"""The demo's story: the real commands, run one after another as a curator would."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from collections.abc import Callable, Iterator
from importlib.util import find_spec

from rellum.demo.game import game_files
from rellum.demo.scenes import SCENES, Scene
from rellum.demo.site import Site
from rellum.demo.world import VERSION, DemoPlaces

Say = Callable[[str], None]


def tell(places: DemoPlaces, say: Say, *, is_quiet: bool = False) -> int:
    """Play all scenes; return 0, or 1 where a command did not end as it should.

    ``is_quiet``: what the commands say goes to standard error.
    """
    with Site(places.folder("site")) as site:
        if not _play(places, site.address, say, is_quiet=is_quiet):
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


def _play(places: DemoPlaces, proxy: str, say: Say, *, is_quiet: bool = False) -> bool:
    """Play all scenes; False where a command did not end as it should."""
    for scene in SCENES:
        if scene.telling:
            say("")
            say(f"# {scene.telling}")
        if scene.act:
            scene.act(places.folder("game"))
        if not scene.command:
            continue
        command = scene.command
        if "--figure" in command and find_spec("matplotlib") is None:
            command = command[: command.index(" --figure")]
            say("(Figures need: pip install 'rellum[figures]')")
        if _is_about_feeds(scene) and find_spec("tuf") is None:
            continue
        command = command.replace("FINGERPRINT", _fingerprint(places))
        say(f"{'friend' if scene.who == 'friend' else ''}$ {command}")
        sys.stdout.flush()
        status = _run(command, places, proxy, who=scene.who, is_quiet=is_quiet)
        if status != scene.status:
            say(f"The demo stops here: exit status {status}, where {scene.status} was right.")
            return False
    return True


def _is_about_feeds(scene: Scene) -> bool:
    """Whether a scene needs what feeds are signed with: it is passed over where that is not installed."""
    return scene.who == "friend" or " publish " in scene.command


def _fingerprint(places: DemoPlaces) -> str:
    """Return the fingerprint of the demo's feed, as 'publish' told it; nothing where there is none yet."""
    file = os.path.join(places.folder("feed"), "metadata", "1.root.json")
    if not os.path.exists(file):
        return ""
    from rellum.core.feed.feed_keys import sayable_root

    with open(file, "rb") as stream:
        return sayable_root(stream.read())


def _run(command: str, places: DemoPlaces, proxy: str, *, who: str, is_quiet: bool) -> int:
    """Run a command as typed, in the pack's folder of who types it, with a shelf of the demo's."""
    home = places.folder("friend") if who == "friend" else places.root
    pack, shelf = os.path.join(home, "pack"), os.path.join(home, "shelf")
    name, *words = shlex.split(command)
    program = [sys.executable, "-m", "rellum"] if name == "rellum" else [sys.executable]
    environment = {
        **os.environ,
        "RELLUM_SHELF": shelf,
        "RELLUM_CACHE": os.path.join(shelf, "cache"),
        "RELLUM_KEYS": places.folder("keys"),
        "RELLUM_KEY_PASSWORD": "high tide at noon",
        "PYTHONUTF8": "1",
        # The stand-in site is a proxy, so that the cards' addresses can look like addresses.
        "http_proxy": proxy,
        "no_proxy": "",
    }
    # A hundred commands: what the program is compiled to is worth keeping.
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    result = subprocess.run(
        [*program, *words],
        cwd=pack,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=sys.stderr if is_quiet else None,
        stderr=None if is_quiet else subprocess.STDOUT,
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
    beside = {"mods/notes.txt", "logs/last-start.log", "saves/north-sea.sav"}
    for folder, _, names in os.walk(game):
        for name in names:
            path = os.path.relpath(os.path.join(folder, name), game).replace(os.sep, "/")
            if path not in expected and path not in beside:
                yield path
