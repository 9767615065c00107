"""Make docs/screenshots again from the demo: ``python -m tools.screenshots [NAME...]``.

Needs Xvfb, xterm and ImageMagick's ``import`` (Debian: xvfb xterm imagemagick fonts-dejavu-core).
Each picture is a terminal in which the commands really ran, cropped to what it shows.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time

from rellum.demo.site import Site

DISPLAY = ":77"
SIZE = "1280x800"
SCREEN = "1280x1700"
FONT = ["12", "-geometry", "126x88+0+0"]
BACKGROUND = "#10161c"
TARGET = os.path.join("docs", "screenshots")

_BEGIN = "rellum adopt ../game; rellum take ../site/*.zip*;"
_WANTS = (
    "rellum want tidal-currents '>=3'; rellum want clear-water; rellum want long-swell;"
    "rellum want brasswork; rellum want ice-breaker; rellum want star-charts '>=middle watch';"
)
_TRUSTING = "rellum decide trust tried; rellum want old-lights;"
_READY = _BEGIN + _WANTS + "rellum resolve;"
_APPLIED = _READY + "rellum apply --yes;"
_BROKEN = (
    "cp -r ../game ../backup;"
    + _APPLIED
    + "printf oops > ../game/data/sea.dat; rm ../game/mods/tidal-currents/tides.dat;"
    "printf oops > ../game/sounds/winch.snd; mv ../game/text/en.txt ../game/text/EN.txt;"
    "echo mine > ../game/mods/notes.txt; echo log > ../game/crash.log;"
)

_PARTLY = "rellum adopt ../game; rellum take ../downloads --each;" + _WANTS + "rellum resolve;"

# name: what is done unseen before, and the commands that the picture shows
SHOTS: dict[str, tuple[str, tuple[str, ...]]] = {
    "help": ("", ("rellum --help",)),
    "begin": (
        "",
        (
            "rellum adopt ../game | head -4",
            "rellum want tidal-currents@3+ clear-water long-swell",
            "rellum take ../site --each | tail -3",
            "rellum apply --yes",
            "rellum status",
        ),
    ),
    "status": (
        _APPLIED
        + "rellum play --outcome log; rellum hold keelson 2.4.0 --reason '3.0 needs game 1.7';"
        "rellum resolve; rellum want deep-lamps --optional; rellum drop brasswork; rellum resolve;",
        ("rellum status", "rellum list", "rellum compare 2"),
    ),
    "adopt": (
        "python -c 'from rellum.demo.scenes import mod_by_hand as mod; mod(\"../game\")';",
        (
            "rellum adopt ../game",
            "rellum sweep --yes",
            "rellum restore --damaged --from ../backup --yes",
            "rellum check",
        ),
    ),
    "describe": (
        "rm -r ../catalog ../site/pages; mv ../site/[!bgkl]* ../player;",
        (
            "rellum describe --game ../game ../site --yes",
            "rellum adopt ../game | head -5 | tail -2",
            "rellum describe ../site --each",
            "rellum vet",
        ),
    ),
    "questions": (
        "rm -r ../catalog ../site/pages;",
        (
            "(sleep 5; for n in {1..12}; do echo; sleep 0.3; done)"
            " | script -qec 'rellum describe --game ../game ../site' /dev/null",
        ),
    ),
    "take": (
        "rellum adopt ../game; cp '../site/deep-lamps-1.1.zip' '../downloads/Lamps of the deep 1_1.zip';"
        "zip -q '../downloads/Lamps of the deep 1_1.zip' rellum.toml;",
        (
            "rellum take ../downloads --each",
            "cp ../site/clear-water-2.1.zip.002 ~; rellum take ~/clear-water-2.1.zip.002",
        ),
    ),
    "fetch": (_PARTLY, ("rellum fetch --export missing.meta4", "rellum fetch --stall 2")),
    "refusal": (
        _READY,
        (
            "rellum want old-lights",
            "rellum resolve",
            "rellum drop old-lights",
            "rellum want harbour-bells",
            "rellum resolve",
            "rellum want tidal-curents",
        ),
    ),
    "why": (
        _READY + "rellum hold long-swell --off;",
        ("rellum why keelson", "rellum why clear-water 2.2", "rellum news"),
    ),
    "outlook-figure": (_READY + _TRUSTING + "rellum resolve;", ()),
    "conflicts": (
        _READY,
        (
            "rellum conflicts",
            "rellum decide winner textures long-swell",
            "rellum conflicts",
        ),
    ),
    "variants": (
        _APPLIED + "rellum variant new next-version; mkdir -p ../game/saves;"
        "echo day 12 > ../game/saves/north-sea.sav;",
        (
            "rellum variant use vanilla --yes",
            "rellum variant",
            "rellum variant use main --yes 2>&1 | tail -4",
            "echo spoilt > ../game/saves/north-sea.sav; rellum backup compare",
            "rellum backup back --yes",
            "rellum backup list",
        ),
    ),
    "hunt": (
        _APPLIED + "rellum play --outcome log; rellum want night-buoys fog-horns; rellum resolve;"
        "rellum fetch; rellum take ../site/night-buoys-1.0.zip ../site/fog-horns-2.0.zip;"
        "rellum apply --yes;",
        ("rellum play --outcome log", "rellum hunt --log | tail -30"),
    ),
    "history": (
        _APPLIED + "rellum play --outcome log; rellum variant use vanilla --yes;"
        "rellum variant use main --yes; rellum drop brasswork; rellum resolve; rellum apply --yes;",
        ("rellum history | head -20", "rellum space"),
    ),
    "check": (
        _BROKEN,
        (
            "python ../game/fathomline.py",
            "rellum check",
            "rellum restore --damaged --from ../backup --yes",
            "rellum sweep --yes",
        ),
    ),
    "share": (
        _APPLIED
        + "rellum restore --all --yes; cp -r ../game ../friend-game; rm ../friend-game/.rellum-owner.toml;"
        "rellum apply --yes; rellum publish ../feed --keys --json > ../said.json;"
        'python -c \'import json; print(json.load(open("../said.json"))["fingerprint"])\' > ../fingerprint;'
        "rellum drop brasswork; rellum apply --yes; mkdir -p ../friend ../work/foam;"
        "echo foam > ../work/foam/foam.dat; head -c 90000 /dev/urandom > ../work/foam/waves.dat;",
        (
            "rellum publish ../feed --words 'Without the brass'",
            "rellum follow ../feed --pack ../friend --game ../friend-game --yes "
            "--trust $(cat ../fingerprint)",
            "rellum check --against ../feed --pack ../friend",
            "rellum press ../work/foam --version 1.0 --into @mods/foam/ --licence MIT",
        ),
    ),
    "rewind": (
        _APPLIED + "rellum checkpoint calm --good; rellum drop brasswork; rellum resolve;"
        "rellum apply --yes; rellum want brasswork 0.9; rellum resolve; rellum apply --yes;"
        "echo my own tides > ../game/mods/tidal-currents/tides.dat;",
        ("rellum checkpoint --list", "rellum rewind --good --yes", "rellum kept", "rellum check"),
    ),
}


def main() -> int:
    """Make the pictures named, or all."""
    lacking = [name for name in ("Xvfb", "xterm", "import", "convert") if not shutil.which(name)]
    if lacking:
        print(f"install these first: {', '.join(lacking)}", file=sys.stderr)
        return 2
    os.makedirs(TARGET, exist_ok=True)
    screen = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", f"{SCREEN}x24"], stderr=subprocess.DEVNULL
    )
    try:
        time.sleep(1)
        for name in sys.argv[1:] or SHOTS:
            take_shot(name, *SHOTS[name])
    finally:
        screen.terminate()
        screen.wait()
    return 0


def take_shot(name: str, unseen: str, commands: tuple[str, ...]) -> None:
    """Run the commands in a terminal on a fresh demo and photograph it when they are done."""
    root = os.path.join(tempfile.gettempdir(), "fathomline-demo")
    shutil.rmtree(root, ignore_errors=True)
    program_folder = os.path.dirname(os.path.abspath(sys.executable))
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "HOME": root,
        "PATH": program_folder + os.pathsep + os.environ["PATH"],
        "RELLUM_SHELF": os.path.join(root, "shelf"),
        "RELLUM_KEYS": os.path.join(root, "keys"),
        "RELLUM_KEY_PASSWORD": "high tide at noon",
        "RELLUM_CACHE": os.path.join(root, "shelf", "cache"),
        "PYTHONUTF8": "1",
    }
    subprocess.run(["rellum", "demo", root, "--files-only"], env=environment, check=True,
                   stdout=subprocess.DEVNULL)  # fmt: skip
    pack = os.path.join(root, "pack")
    with Site(os.path.join(root, "site")) as site:
        environment |= {"http_proxy": site.address, "no_proxy": ""}
        subprocess.run(["bash", "-c", unseen or "true"], cwd=pack, env=environment, check=False,
                       stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
        picture = os.path.join(TARGET, f"{name}.png")
        if commands:
            photograph(commands, pack, environment, picture)
    print(picture)
    if name == "history":
        _photograph_page(pack, environment)
    if name == "outlook-figure":
        figure = os.path.abspath(os.path.join(TARGET, "outlook-figure.png"))
        words = ["rellum", "outlook", "--figure", figure]
        subprocess.run(words, cwd=pack, env=environment, check=True, stdout=subprocess.DEVNULL)


def _photograph_page(pack: str, environment: dict[str, str]) -> None:
    """Write the health page, and take a picture of it in a browser, where there is one."""
    page, picture = os.path.join(pack, "health.html"), os.path.join(TARGET, "report.png")
    subprocess.run(["rellum", "report", page], cwd=pack, env=environment, check=True,
                   stdout=subprocess.DEVNULL)  # fmt: skip
    if browser := shutil.which("chromium"):
        words = [browser, "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars",
                 f"--window-size={SIZE.replace('x', ',')}", f"--screenshot={os.path.abspath(picture)}",
                 f"file://{page}"]  # fmt: skip
        subprocess.run(words, check=False, stderr=subprocess.DEVNULL)
        print(picture)


def photograph(
    commands: tuple[str, ...],
    pack: str,
    environment: dict[str, str],
    picture: str,
) -> None:
    """Run the commands in a terminal; take the picture when they have ended."""
    with tempfile.TemporaryDirectory() as folder:
        done = os.path.join(folder, "done")
        lines = [f"printf '\\033[32m$\\033[0m %s\\n' {shlex.quote(c)}; {c}; echo" for c in commands]
        hidden = "printf '\\033[?25l'"  # no cursor
        script = "; ".join(["clear", hidden, *lines, f"touch {done}", "sleep 60"])
        terminal = subprocess.Popen(
            ["xterm", "-T", "picture", "-fa", "DejaVu Sans Mono", "-fs", *FONT, "+sb",
             "-bg", BACKGROUND, "-fg", "#d8dee4", "-b", "12", "-e", "bash", "-c", script],
            cwd=pack,
            env=environment,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip
        deadline = time.monotonic() + 60
        while not os.path.exists(done) and time.monotonic() < deadline:
            time.sleep(0.1)
        time.sleep(0.5)
        whole = os.path.join(folder, "whole.png")
        subprocess.run(["import", "-window", "picture", whole], env=environment, check=True)
        words = ["convert", whole, "-strip", "-trim", "+repage", "-bordercolor", BACKGROUND,
                 "-border", "14x10", picture]  # fmt: skip
        subprocess.run(words, env=environment, check=True)
        terminal.terminate()
        terminal.wait()


if __name__ == "__main__":
    sys.exit(main())
