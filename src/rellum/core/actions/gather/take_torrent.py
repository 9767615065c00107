"""What a .torrent lists, to be taken: its files are looked for and checked."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import NamedTuple

from rellum.core.actions.gather.archive_taker import ArchiveTaker, TakeOutcome
from rellum.core.archives.forms import ENDINGS
from rellum.core.archives.parts import part_by_name
from rellum.core.errors import RellumError
from rellum.core.fetching.torrent_check import CheckedFile, check_files, find_files
from rellum.core.fetching.torrent_file import Torrent, read_torrent_file
from rellum.core.notices import inform
from rellum.core.words import count_words, quoted

_FEW = 8
_AGAIN = "Let the program that fetched it check it and fetch the rest, then take it again."


class Listed(NamedTuple):
    """What a torrent lists: the files or the folder to take, and what is refused of it."""

    paths: tuple[str, ...] = ()
    refused: tuple[TakeOutcome, ...] = ()


def listed_in(taker: ArchiveTaker, path: str, places: Sequence[str]) -> Listed:
    """Return what of a torrent is here and whole.

    ``places`` are the folders in which its files may be; none: where the torrent lies. Where it lists
    archives, or files that cards name, those are taken; else the whole of it is one mod's folder.
    """
    try:
        torrent = read_torrent_file(path)
        places = places or [os.path.dirname(path) or "."]
        folder = find_files(torrent, places)
        checked = check_files(torrent, folder)
    except RellumError as error:
        return _refuse(path, error.summary, error.hint)
    except OSError as error:
        return _refuse(path, str(error), "")
    if all(each.state == "missing" for each in checked):
        count = count_words(len(checked), "file", "files")
        return _refuse(
            path,
            f"{path}: it lists {count}, and none of them is in {' or '.join(places)}",
            f"Say in which folder they are: rellum take {quoted(path)} FOLDER",
        )
    bad = [each for each in checked if each.state in ("damaged", "missing")]
    archives = [
        each
        for each in checked
        if _may_be_archive(each.path) or taker.names(os.path.basename(each.path))
    ]
    refused = [_refused(path, torrent, each) for each in bad[:_FEW]]
    if len(bad) > _FEW:
        rest = count_words(len(bad) - _FEW, "more of its files is", "more of its files are")
        more = f"{path}: {rest} damaged or missing"
        refused.append(TakeOutcome(path=path, outcome="refused", reason=more, hint=_AGAIN))
    if archives:
        _tell_rest(path, checked, archives)
        paths = [each.path for each in archives if each not in bad]
    else:
        paths = [] if bad else [checked[0].path if torrent.is_one_file else folder]
    return Listed(tuple(paths), tuple(refused))


def _refuse(path: str, reason: str, hint: str) -> Listed:
    return Listed(refused=(TakeOutcome(path=path, outcome="refused", reason=reason, hint=hint),))


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
