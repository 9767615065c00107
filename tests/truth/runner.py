"""Runs the built program in a process of its own for each command, without importing it anew each time.

Where processes can be forked a command takes some hundredths of a second, so that long random sequences are
possible. The program is called as its console script calls it: by ``main``.
"""

from __future__ import annotations

import os
import signal
import sys
import time
from typing import NamedTuple

LONGEST_SECONDS = 120


class Said(NamedTuple):
    """What a command said. ``status`` is its exit status."""

    words: tuple[str, ...]
    status: int
    out: str
    err: str

    @property
    def text(self) -> str:
        """Everything that was printed."""
        return self.out + self.err

    def __str__(self) -> str:
        return f"$ rellum {' '.join(self.words)}  -> {self.status}\n{self.text}"


def preload() -> None:
    """Import what the commands use, so that each forked process has it."""
    import importlib
    import pkgutil

    import rellum.cli.main

    for package in ("rellum.cli.commands", "rellum.core"):
        found = importlib.import_module(package)
        for each in pkgutil.walk_packages(found.__path__, f"{package}."):
            importlib.import_module(each.name)
    assert rellum.cli.main


def run(words: tuple[str, ...], folder: str, variables: dict[str, str]) -> Said:
    """Run a command in a folder, with nobody at the terminal."""
    names = [os.path.join(folder, "..", f"said-{stream}") for stream in ("out", "err")]
    child = os.fork()
    if child == 0:
        _as_program(words, folder, variables, names)
    deadline = time.monotonic() + LONGEST_SECONDS
    while True:
        ended, status = os.waitpid(child, os.WNOHANG)
        if ended:
            break
        if time.monotonic() > deadline:
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            raise AssertionError(f"rellum {' '.join(words)} hangs")
        time.sleep(0.002)
    texts = []
    for name in names:
        with open(name, encoding="utf-8", errors="replace") as file:
            texts.append(file.read())
    return Said(words, os.waitstatus_to_exitcode(status), *texts)


def _as_program(
    words: tuple[str, ...], folder: str, variables: dict[str, str], names: list[str]
) -> None:
    code = 99
    try:
        os.chdir(folder)
        os.environ.update(variables)
        for descriptor, name in zip((1, 2), names, strict=True):
            file = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(file, descriptor)
            os.close(file)
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        sys.stdin, sys.stdout, sys.stderr = (
            open(0, closefd=False),  # noqa: SIM115 - they live as long as the process
            open(1, "w", encoding="utf-8", closefd=False),  # noqa: SIM115
            open(2, "w", encoding="utf-8", closefd=False),  # noqa: SIM115
        )
        sys.argv = ["rellum", *words]
        from rellum.cli.main import main

        try:
            code = main()
        except SystemExit as error:
            code = error.code if isinstance(error.code, int) else 0 if error.code is None else 1
        except BaseException:
            import traceback

            traceback.print_exc()
            code = 98
        sys.stdout.flush()
        sys.stderr.flush()
    finally:
        os._exit(code)
