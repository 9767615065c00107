"""Runs commands of the program one after another, each in a fork of this process, and prints what they say.

``python -m tests.seeded COMMANDS.json`` reads a list of lists of words; the hash seed is this process's.
"""

from __future__ import annotations

import json
import os
import sys

from rellum.cli.main import main
from tests.forked import import_all


def run(words: list[str]) -> None:
    """Run one command, its output into this one's, and its status after it."""
    print("$", *words, flush=True)
    child = os.fork()
    if child == 0:
        status = 99
        try:
            os.dup2(1, 2)
            sys.argv = ["rellum", *words]
            status = main()
        finally:
            sys.stdout.flush()
            os._exit(status)
    print("status", os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)


if __name__ == "__main__":
    import_all()
    with open(sys.argv[1], encoding="utf-8") as file:
        commands = json.load(file)
    for each in commands:
        run(each)
