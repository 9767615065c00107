"""The built program, run thousands of times by a process that has imported all of it and forks for each call.

A call is a process of its own, as a user's is: with its own folder, environment, input and outputs, and
nothing of another call in memory. Only what takes two thirds of a test's time is done once: to start Python
and to import. Where a call needs an interpreter of its own (another locale, warnings), or the system cannot
fork, it gets one.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import socket
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any

_OF_THE_INTERPRETER = ("PYTHON", "LC_", "LANG", "MALLOC")
_LATER = (
    "charset_normalizer", "defusedxml.ElementTree", "platformdirs", "psutil", "py7zr", "regex", "requests",
    "tomli", "tomlkit", "urllib3", "backports.zstd", "isal.isal_zlib",
)  # fmt: skip
"""What the program imports only when it needs it."""
TIMEOUT = 600
"""Seconds; against a hang alone: a busy machine may take minutes for the story."""


class _Server:
    """The process that forks, as its client sees it."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        self.settings = _settings(os.environ)
        self.process = subprocess.Popen(
            [sys.executable, "-m", "tests.forked", str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            cwd=os.path.dirname(os.path.dirname(os.path.abspath(__file__))),
            env={**os.environ, "PYTHONUTF8": "1"},
            stdin=subprocess.DEVNULL,
        )
        theirs.close()
        ours.settimeout(TIMEOUT)
        self._line = ours
        self.stream = ours.makefile("rwb")
        atexit.register(self.close)

    def close(self) -> None:
        self.stream.close()
        self._line.close()
        self.process.wait()

    def call(self, request: dict[str, Any]) -> int:
        self.stream.write(json.dumps(request).encode() + b"\n")
        self.stream.flush()
        answer = self.stream.readline()
        if not answer:
            raise RuntimeError("the process that forks has ended")
        return int(answer)


_servers: list[_Server] = []


def _settings(environment: Mapping[str, str]) -> dict[str, str]:
    """Return what an interpreter reads when it starts."""
    return {
        name: value
        for name, value in environment.items()
        if name.startswith(_OF_THE_INTERPRETER) and name != "PYTHONUTF8"
    }


def run(
    words: Sequence[str], cwd: str, environment: Mapping[str, str], typed: str
) -> subprocess.CompletedProcess[str]:
    """Run the program; its output is text."""
    if hasattr(os, "fork") and sys.platform != "darwin":
        if not _servers:
            _servers.append(_Server())
        [server] = _servers
        if _settings(environment) == server.settings:
            return _forked(server, words, cwd, environment, typed)
    return subprocess.run(
        [sys.executable, "-m", "rellum", *words],
        cwd=cwd,
        env=dict(environment),
        capture_output=True,
        text=True,
        input=typed,
        timeout=TIMEOUT,
        check=False,
    )


def _forked(
    server: _Server, words: Sequence[str], cwd: str, environment: Mapping[str, str], typed: str
) -> subprocess.CompletedProcess[str]:
    with tempfile.TemporaryDirectory(prefix="rellum-call-") as folder:
        files = [os.path.join(folder, name) for name in ("in", "out", "err")]
        with open(files[0], "w", encoding="utf-8", newline="") as stream:
            stream.write(typed)
        request = {
            "words": list(words),
            "cwd": cwd,
            "environment": dict(environment),
            "files": files,
        }
        status = server.call(request)
        texts = []
        for file in files[1:]:
            with open(file, encoding="utf-8") as stream:
                texts.append(stream.read())
    return subprocess.CompletedProcess(["rellum", *words], status, *texts)


def import_all() -> None:
    """Import all of the program, so that each fork of this process has it."""
    for module in pkgutil.walk_packages(importlib.import_module("rellum").__path__, "rellum."):
        if "game_files" not in module.name and not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for name in _LATER:
        with suppress(ImportError):
            importlib.import_module(name)
    gc.collect()
    gc.freeze()


def _serve(descriptor: int) -> None:
    import_all()
    with socket.socket(fileno=descriptor) as line, line.makefile("rwb") as stream:
        while request := stream.readline():
            child = os.fork()
            if child == 0:
                _run_as_child(**json.loads(request))
            status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
            stream.write(b"%d\n" % status)
            stream.flush()


def _run_as_child(
    words: list[str], cwd: str, environment: dict[str, str], files: list[str]
) -> None:
    """Be the program, and leave."""
    status: object = 1
    try:
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(environment)
        flags = (os.O_RDONLY, os.O_WRONLY | os.O_CREAT, os.O_WRONLY | os.O_CREAT)
        for number, (file, flag) in enumerate(zip(files, flags, strict=True)):
            opened = os.open(file, flag, 0o600)
            os.dup2(opened, number)
            os.close(opened)
        sys.argv = ["rellum", *words]
        sys.stdin = os.fdopen(0, encoding="utf-8", closefd=False)
        sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
        sys.stderr = os.fdopen(2, "w", 1, "utf-8", "backslashreplace", closefd=False)
        from rellum.cli.main import main

        status = main()
    except SystemExit as error:
        status = error.code
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        for stream in (sys.stdout, sys.stderr):
            with suppress(OSError, ValueError):
                stream.flush()
        os._exit(status if isinstance(status, int) else 0 if status is None else 1)


if __name__ == "__main__":
    _serve(int(sys.argv[1]))
