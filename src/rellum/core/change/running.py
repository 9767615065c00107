"""Whether the game, or its launcher, is running: it would hold files, or write its own over ours."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from typing import NamedTuple

from rellum.core.errors import UserError

PROC = "/proc"


class GameRunning(UserError):
    """A program is running from the game folder, works in it, or has a file of it open."""

    code = "game-running"


class Running(NamedTuple):
    """A process, and what it has to do with the game folder."""

    number: int
    name: str
    why: str


def refuse_running(folders: Sequence[str]) -> None:
    """Refuse to work while a program uses one of these folders. Raises GameRunning."""
    found = list(find_running(folders))
    if found:
        raise GameRunning(
            f"the game is in use by {', '.join(f'{each.name} ({each.number})' for each in found[:3])}",
            details=tuple(f"{each.name} (process {each.number}) {each.why}" for each in found[:10]),
            hint="Close it and try again, or add --even-if-running.",
        )


def find_running(folders: Sequence[str]) -> Iterator[Running]:
    """Yield the programs that use one of these folders, other than this one and those it runs under.

    The shell that stands in the game folder while it calls Rellum does no harm.
    """
    prefixes = tuple(os.path.realpath(folder).rstrip(os.sep) + os.sep for folder in folders)
    if os.path.isdir(PROC) and not any(_may_use(number, prefixes) for number in _numbers()):
        return  # a look at the system's own list costs a tenth of importing psutil
    import psutil

    ours = {os.getpid(), *(each.pid for each in psutil.Process().parents())}
    for process in psutil.process_iter():
        if process.pid in ours:
            continue
        with suppress(psutil.Error, OSError):
            why = _use(process, prefixes)
            if why:
                yield Running(number=process.pid, name=process.name(), why=why)


def _use(process: object, prefixes: tuple[str, ...]) -> str:
    """Say how a process uses the folders; nothing where it does not. What it hides is not seen."""
    import psutil

    assert isinstance(process, psutil.Process)
    with suppress(psutil.Error, OSError):
        if _is_in(process.exe(), prefixes):
            return "is running from the game folder"
    with suppress(psutil.Error, OSError):
        script = next((word for word in process.cmdline()[1:3] if _is_in(word, prefixes)), "")
        if script:
            return f"runs {script}"
    with suppress(psutil.Error, OSError):
        if _is_in(process.cwd(), prefixes):
            return "is working in the game folder"
    with suppress(psutil.Error, OSError):
        for file in process.open_files():
            if _is_in(file.path, prefixes):
                return f"has {file.path} open"
    return ""


def _is_in(path: str, prefixes: tuple[str, ...]) -> bool:
    return bool(path) and f"{path}{os.sep}".startswith(prefixes)


def _numbers() -> Iterable[str]:
    own = str(os.getpid())
    return (name for name in os.listdir(PROC) if name.isdigit() and name != own)


def _may_use(number: str, prefixes: tuple[str, ...]) -> bool:
    """Whether the system's list shows a process with one of the folders, in any role.

    Every change looks at every process: the loop is plain, and asks no more than it must.
    """
    here = f"{PROC}/{number}/"
    folders = tuple(prefix[: -len(os.sep)] for prefix in prefixes)
    try:
        with open(here + "cmdline", "rb") as file:
            words = os.fsdecode(file.read()).split("\0", 3)[:3]
        links = [here + "exe", here + "cwd"]
        links += [f"{here}fd/{name}" for name in os.listdir(here + "fd")]
    except OSError:  # it has ended, or is another user's
        return False
    for link in links:
        try:
            words.append(os.readlink(link))
        except OSError:
            continue
    return any(word.startswith(prefixes) or word in folders for word in words)
