"""Random commands on random worlds, every answer held to the truth: ``python -m tools.random_truth SECONDS
SEED``.

Each world is a made-up game drawn at random: places inside and outside, settings and saves, versions that
the catalog knows or not, a game that is modded already, faulty cards. A model that knows nothing of the
program's code (``tests/truth``) says what must be; the built program is called as a user would call it.
Goes on to the next world where an answer is false, and prints the last steps of each such world.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time

from tests.support import memory_folder
from tests.truth.claims import Pack
from tests.truth.model import Untrue
from tests.truth.runner import preload
from tests.truth.world import draw

STEPS = 40


def main() -> int:
    """Run for so many seconds from a first seed; return 1 if an answer was false."""
    seconds, seed = float(sys.argv[1]), int(sys.argv[2])
    steps = int(sys.argv[3]) if len(sys.argv) > 3 else STEPS
    preload()
    end = time.monotonic() + seconds
    commands = worlds = false = 0
    while time.monotonic() < end:
        root = os.path.realpath(tempfile.mkdtemp(prefix="truth-", dir=memory_folder()))
        done = 0
        try:
            pack = Pack(draw(root, seed))
            for _ in range(steps):
                pack.step()
            done = pack.commands
        except Untrue as error:
            false += 1
            print(f"=== seed {seed}: {error}", flush=True)
        finally:
            shutil.rmtree(root, ignore_errors=True)
        worlds, commands, seed = worlds + 1, commands + done, seed + 1
    print(f"{worlds} worlds, {commands} commands in those without a fault, {false} false answers")
    return 1 if false else 0


if __name__ == "__main__":
    sys.exit(main())
