"""Two hundred players who follow at once from one web server (nginx), beside as many who fetch with curl.

``python -m benchmarks.crowd [PLAYERS [MEGABYTES]]`` makes the world in .bench/crowd and prints its figures.
"""

from __future__ import annotations

import io
import os
import re
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from benchmarks.sharing import SharingWorld
from rellum.cli.main import main as rellum
from rellum.core.hashing import hash_file

_CONFIGURATION = """\
daemon off;
worker_processes auto;
pid {folder}/nginx.pid;
error_log {folder}/error.log;
events {{ worker_connections 4096; }}
http {{
  access_log {folder}/access.log;
  client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy;
  fastcgi_temp_path {folder}/fastcgi; uwsgi_temp_path {folder}/uwsgi; scgi_temp_path {folder}/scgi;
  sendfile on;
  server {{ listen 127.0.0.1:{port}; root {feed}; }}
}}
"""
_PORT = 18_471


@contextmanager
def nginx(feed: str, folder: str) -> Iterator[str]:
    """Serve a feed by nginx, and give its address."""
    os.makedirs(folder, exist_ok=True)
    file = os.path.join(folder, "nginx.conf")
    with open(file, "w", encoding="utf-8") as out:
        out.write(_CONFIGURATION.format(folder=folder, feed=feed, port=_PORT))
    server = subprocess.Popen([shutil.which("nginx") or "/usr/sbin/nginx", "-c", file])
    time.sleep(1)
    try:
        yield f"http://127.0.0.1:{_PORT}"
    finally:
        server.terminate()
        server.wait()


def all_at_once(count: int, act: Callable[[int], int]) -> tuple[float, list[int]]:
    """Do something in so many processes at once; return the seconds until the last ends, and the statuses.

    They are forked from this one, which has imported the program: two hundred fresh interpreters would
    measure the machine's memory.
    """
    began = time.perf_counter()
    children = []
    for number in range(count):
        child = os.fork()
        if child == 0:
            status = 99
            try:
                status = act(number)
            finally:
                os._exit(status)
        children.append(child)
    ended = [os.waitstatus_to_exitcode(os.waitpid(each, 0)[1]) for each in children]
    return time.perf_counter() - began, ended


def main() -> None:
    """Make the world, measure, and print."""
    players = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    megabytes = int(sys.argv[2]) if len(sys.argv) > 2 else 8
    root = os.path.abspath(os.path.join(".bench", "crowd"))
    shutil.rmtree(root, ignore_errors=True)
    world = SharingWorld(root, megabytes, mods=8)
    os.environ["RELLUM_SHELF"] = world.path("shelf")
    world.make()
    mark = str(world.said("pack", "shelf", "publish", "../feed", "--keys")["fingerprint"])
    vanilla = world.path("vanilla")
    shutil.copytree(world.path("game"), vanilla, ignore=shutil.ignore_patterns("mods", ".rellum*"))
    for number in range(players):
        shutil.copytree(vanilla, world.path("players", f"{number}", "game"))
        os.mkdir(world.path("players", f"{number}", "pack"))

    def follow(number: int, *words: str) -> int:
        os.chdir(world.path("players", f"{number}", "pack"))
        os.environ["RELLUM_SHELF"] = world.path("players", f"{number}", "shelf")
        sys.argv = ["rellum", "follow", *words, "--yes"]
        sys.stdout = sys.stderr = io.StringIO()
        return rellum()

    folder = world.path("nginx")
    with nginx(world.path("feed"), folder) as web:
        first = (web, "--game", "../game", "--trust", mark)
        tell("for the first time", world, players, lambda n: follow(n, *first), folder)
        world.move("2", {n: dict.fromkeys(range(2), 4000) for n in range(4)})
        world.said("pack", "shelf", "publish", "../feed")
        tell("an update", world, players, follow, folder)


def tell(
    what: str, world: SharingWorld, players: int, act: Callable[[int], int], folder: str
) -> None:
    log = os.path.join(folder, "access.log")
    before = os.path.getsize(log)
    seconds, statuses = all_at_once(players, act)
    with open(log, encoding="utf-8") as file:
        file.seek(before)
        asked = [
            (found[1], found[2], int(found[3]))
            for line in file
            if (found := re.search(r'"GET (\S+) [^"]*" (\d+) (\d+)', line))
        ]
    size = sum(each[2] for each in asked)
    right = statuses.count(0)
    same = sum(_mods(world.path("players", f"{n}", "game")) == _mods(world.path("game"))
               for n in range(players))  # fmt: skip
    asked = asked[: len(asked) // players]
    address = f"http://127.0.0.1:{_PORT}"

    def curl(_: int) -> int:
        # As much as one player received, in the same requests, more or less: whole objects by ranges.
        words = ["curl", "-s"]
        for path, status, count in asked:
            words += ["-r", f"0-{count - 1}"] if status == "206" else []
            words += ["-o", "/dev/null", address + path, "--next", "-s"]
        return subprocess.run(words[:-2], check=False).returncode

    plain, _ = all_at_once(players, curl)
    print(
        f"{what}: {players} players, {right} ended well, {same} have the same; {seconds:.1f} s, "
        f"{size / players:,.0f} bytes a player; as many curl {plain:.1f} s"
    )


def _mods(game: str) -> list[tuple[str, str]]:
    folder = os.path.join(game, "mods")
    return sorted(
        (os.path.relpath(os.path.join(above, name), folder), hash_file(os.path.join(above, name)))
        for above, _, names in os.walk(folder)
        for name in names
    )


if __name__ == "__main__":
    main()
