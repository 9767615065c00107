"""Wait for the user's downloads, and take each one when it is complete."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from rellum.core.actions.gather.archive_taker import HowToTake, TakeOutcome, opened_taker
from rellum.core.archives.forms import unfinished
from rellum.core.change.request import Request
from rellum.core.composing.needed import NeededFile, needs_of, still_missing
from rellum.core.errors import UserError
from rellum.core.shelf.store import Shelf

SECONDS_BETWEEN = 1.0


class NoSuchFolder(UserError):
    """The folder to watch does not exist."""

    code = "no-such-folder"


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """What became of the files that came, and the names that are still waited for.

    ``to_fetch`` is how many more the line-up lacks that 'fetch' can get.
    """

    taken: tuple[TakeOutcome, ...]
    waiting: tuple[str, ...]
    to_fetch: int


def watch(
    request: Request, folder: str, how: HowToTake, sleep: Callable[[float], None] = time.sleep
) -> Iterator[Step]:
    """Yield a step at the beginning and whenever files came; end when nothing is waited for.

    Waited for is what a person must get; where that is nothing, all that is missing.
    A file is complete when its name is not that of an unfinished download and its size and time stay
    the same from one look to the next. Raises NoSuchFolder, and what reading the pack can raise.
    """
    if not os.path.isdir(folder):
        raise NoSuchFolder(f"{folder} is no folder", hint="Name your downloads folder.")
    seen: dict[str, tuple[int, int]] = {}
    done: set[tuple[str, int, int]] = set()
    with Shelf(request.shelf_folder) as shelf:
        missing = needs_of(request.pack_folder, shelf).missing
    by_hand = [each for each in missing if not each.can_be_fetched]
    targets = {each.file.name for each in by_hand or missing}
    yield _step((), missing, targets)
    while any(each.file.name in targets for each in missing):
        sleep(SECONDS_BETWEEN)
        taken: tuple[TakeOutcome, ...] = ()
        if ready := _ready(folder, missing, seen, done):
            with opened_taker(
                request.pack_folder, request.shelf_folder, how, request.listen
            ) as taker:
                taken = tuple(taker.take_all(ready))
        with Shelf(request.shelf_folder) as shelf:  # somebody else may have brought them meanwhile
            missing = still_missing(missing, shelf)
        if taken:
            yield _step(taken, missing, targets)


def _step(taken: tuple[TakeOutcome, ...], missing: Sequence[NeededFile], targets: set[str]) -> Step:
    waiting = tuple(each.file.name for each in missing if each.file.name in targets)
    return Step(taken=taken, waiting=waiting, to_fetch=len(missing) - len(waiting))


def _ready(
    folder: str,
    missing: tuple[NeededFile, ...],
    seen: dict[str, tuple[int, int]],
    done: set[tuple[str, int, int]],
) -> list[str]:
    """Return the files that may be wanted and stayed as they were since the last look."""
    names = {each.file.name.casefold() for each in missing}
    sizes = {each.file.size for each in missing}
    found = []
    with os.scandir(folder) as entries:
        for entry in entries:
            if not entry.is_file() or unfinished(entry.path):
                continue
            status = entry.stat()
            now = (status.st_size, status.st_mtime_ns)
            settled = seen.get(entry.path) == now
            seen[entry.path] = now
            wanted = entry.name.casefold() in names or status.st_size in sizes
            if wanted and settled and status.st_size and (entry.path, *now) not in done:
                done.add((entry.path, *now))
                found.append(entry.path)
    return sorted(found)
