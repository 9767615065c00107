"""Twenty players who follow at once: from a bounded server, and as a swarm with it or with one seed.

``python -m benchmarks.swarm [MEGABYTES [MEGABYTES A SECOND]]`` makes the world in .bench/swarm and prints.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import ThreadingHTTPServer

from benchmarks.sharing import RELLUM, SharingWorld, served
from benchmarks.swarm_others import new_tracker, seed

PLAYERS = 20
_NOBODY = "http://127.0.0.1:9"


class Swarm:
    """A curator's feed, and what players do with it."""

    def __init__(self, megabytes: int, rate: int) -> None:
        root = os.path.abspath(os.path.join(".bench", "swarm"))
        shutil.rmtree(root, ignore_errors=True)
        self.world, self.rate = SharingWorld(root, megabytes), rate
        os.environ["RELLUM_SHELF"] = self.world.path("shelf")
        self.world.make()
        shutil.copytree(
            self.world.path("game"),
            self.world.path("vanilla"),
            ignore=shutil.ignore_patterns("mods", ".rellum*"),
        )

    def publish(self, name: str, *words: str) -> str:
        """Publish into a feed of that name; return its fingerprint."""
        said = self.world.said("pack", "shelf", "publish", f"../feeds/{name}", "--keys", *words)
        return str(said["fingerprint"])

    def follow(self, address: str, fingerprint: str, *words: str) -> float:
        """Let all follow at once; return the seconds until the last one has everything laid."""
        players = self.world.path("players")
        shutil.rmtree(players, ignore_errors=True)
        for number in range(PLAYERS):
            shutil.copytree(self.world.path("vanilla"), os.path.join(players, f"{number}", "game"))
            os.mkdir(os.path.join(players, f"{number}", "pack"))
        began = time.perf_counter()
        running = []
        for number in range(PLAYERS):
            folder = os.path.join(players, str(number))
            call = [RELLUM, "follow", address, "--game", "../game", "--trust", fingerprint, "--yes"]
            running.append(
                subprocess.Popen(
                    [*call, *words],
                    cwd=os.path.join(folder, "pack"),
                    env={**os.environ, "RELLUM_SHELF": os.path.join(folder, "shelf")},
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                    text=True,
                )
            )
        said = [each.communicate()[0] for each in running]
        seconds = time.perf_counter() - began
        if any(each.returncode for each in running):
            raise RuntimeError("\n".join(said))
        print("   ", next(line for line in said[0].splitlines() if "  came" in f"  {line}"))
        return seconds


def main() -> None:
    """Make the world, measure, and print."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 80
    rate = int(float(sys.argv[2] if len(sys.argv) > 2 else 8) * (1 << 20))
    swarm = Swarm(megabytes, rate)
    feeds = swarm.world.path("feeds")
    os.makedirs(feeds)
    with served(feeds, rate) as web:
        mark = swarm.publish("web", "--torrent", f"{web}/web")
        plain = swarm.follow(f"{web}/web", mark, "--no-swarm")
        print(
            f"{PLAYERS} players, {megabytes} MB, {rate:,} bytes a second: plain HTTP {plain:.1f} s"
        )
        with tracked() as tracker:
            mark = swarm.publish("met", "--torrent", f"{web}/met", "--tracker", tracker)
            tell("the server as web seed alone", plain, swarm.follow(f"{web}/met", mark))
    with served(feeds, rate) as web, tracked() as tracker:  # nobody is where the web seed should be
        mark = swarm.publish("one", "--torrent", f"{_NOBODY}/one", "--tracker", tracker)
        [name] = os.listdir(os.path.join(feeds, "one", "torrents"))
        with open(os.path.join(feeds, "one", "torrents", name), "rb") as file:
            session = seed(file.read(), feeds, rate)
        tell("one seed with as much upload", plain, swarm.follow(f"{web}/one", mark))
        del session


def tell(what: str, plain: float, seconds: float) -> None:
    print(
        f"swarm, {what}: {seconds:.1f} s, {seconds / plain:.2f} of plain HTTP (limit 0.25)",
        flush=True,
    )


@contextmanager
def tracked() -> Iterator[str]:
    """Run a tracker; give its address."""
    tracker = ThreadingHTTPServer(("127.0.0.1", 0), new_tracker())
    threading.Thread(target=tracker.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{tracker.server_address[1]}/announce"
    finally:
        tracker.shutdown()
        tracker.server_close()


if __name__ == "__main__":
    main()
