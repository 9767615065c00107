"""Take what a .torrent lists: its files are looked for and checked, and those that are whole are taken."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

from rellum.core.actions.gather.archive_taker import HowToTake, TakeOutcome, opened_taker
from rellum.core.archives.forms import ENDINGS
from rellum.core.archives.parts import part_by_name
from rellum.core.change.request import Request
from rellum.core.errors import RellumError
from rellum.core.fetching.torrent_check import CheckedFile, check_files, find_files
from rellum.core.fetching.torrent_file import Torrent, read_torrent_file
from rellum.core.notices import inform
from rellum.core.words import count_words

_FEW = 8


def outcomes_of(
    request: Request, path: str, places: Sequence[str], how: HowToTake
) -> Iterator[TakeOutcome]:
    """Yield what became of the files of a torrent.

    ``places`` are the folders in which they may be; none: where the torrent lies. Where it lists archives, or
    files that cards name, those are taken; else the whole of it is one mod's folder. Raises as ``take`` does.
    """
    try:
        torrent = read_torrent_file(path)
        folder = find_files(torrent, places or [os.path.dirname(path) or "."])
        checked = check_files(torrent, folder)
    except (RellumError, OSError) as error:
        reason, hint = (
            (error.summary, error.hint) if isinstance(error, RellumError) else (f"{error}", "")
        )
        yield TakeOutcome(path=path, outcome="refused", reason=reason, hint=hint)
        return
    bad = [each for each in checked if each.state in ("damaged", "missing")]
    if all(each.state == "missing" for each in checked):
        count = count_words(len(checked), "file", "files")
        yield TakeOutcome(
            path=path,
            outcome="refused",
            reason=f"{path}: it lists {count}, and none of them is in {' or '.join(places) or folder}",
            hint=f"Say in which folder they are: rellum take {path} FOLDER",
        )
        return
    with opened_taker(request.pack_folder, request.shelf_folder, how, request.listen) as taker:
        archives = [
            each
            for each in checked
            if _may_be_archive(each.path) or taker.names(os.path.basename(each.path))
        ]
        if archives:
            here = [each.path for each in archives if each not in bad]
            _tell_rest(path, checked, archives)
            yield from taker.take_all(here)
        elif not bad:
            yield from taker.take_all([checked[0].path if torrent.is_one_file else folder])
    yield from (_refused(path, torrent, each) for each in bad[:_FEW])
    if len(bad) > _FEW:
        more = f"{path}: {len(bad) - _FEW:,} more of its files are damaged or missing"
        yield TakeOutcome(path=path, outcome="refused", reason=more, hint=_AGAIN)


_AGAIN = "Let the program that fetched it check it and fetch the rest, then take it again."


def _may_be_archive(path: str) -> bool:
    name = os.path.basename(path)
    return name.lower().endswith(ENDINGS) or part_by_name(name) is not None


def _refused(path: str, torrent: Torrent, file: CheckedFile) -> TakeOutcome:
    name = file.entry.path or torrent.name
    if file.state == "missing":
        reason = f"{file.path}: it is not here, and {path} lists it with {file.entry.size:,} bytes"
    elif file.wrong:
        count = -(-file.entry.size // torrent.piece_size) or 1
        reason = f"{file.path}: {file.wrong:,} of about {count:,} pieces are not as {path} says"
    else:
        reason = f"{file.path}: it is not as {path} says"
    return TakeOutcome(path=name, outcome="refused", reason=reason, hint=_AGAIN)


def _tell_rest(path: str, checked: Sequence[CheckedFile], archives: Sequence[CheckedFile]) -> None:
    """Tell of files that are whole, and nothing to take; and of those that nobody can be sure of."""
    rest = [each for each in checked if each not in archives and each.state == "whole"]
    if rest:
        some = count_words(len(rest), "file", "files")
        inform(
            f"{path}: {some} more of it {'is' if len(rest) == 1 else 'are'} whole, and no archive."
        )
    for each in archives:
        if each.state == "unsure":
            inform(
                f"{each.path}: nothing in it is wrong, but a piece reaches into a file that is not here."
            )
