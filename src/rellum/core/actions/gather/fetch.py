"""Fetch what the line-up needs and the shelf lacks."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import NamedTuple

from rellum.core.actions.gather.archive_taker import (
    ArchiveTaker,
    HowToTake,
    TakeOutcome,
    opened_taker,
)
from rellum.core.actions.gather.fetch_swarm import from_swarms, listed_in
from rellum.core.actions.match.resolve import resolve
from rellum.core.archives.model import ArchiveFault
from rellum.core.change.request import Request
from rellum.core.composing.needed import NeededFile, Needs, needs_of
from rellum.core.durable import write_durably
from rellum.core.errors import RellumError, UserError
from rellum.core.feed.upstream import Named, Upstream, upstream_of
from rellum.core.fetching.fetcher import Fetcher
from rellum.core.fetching.metalink import ListedFile, metalink_text, read_metalink
from rellum.core.fetching.model import FetchListener, FileProgress, Outcome, Patience, Wanted
from rellum.core.fetching.partial import forget_partial
from rellum.core.fetching.torrent_file import Torrent, is_torrent, read_torrent_file
from rellum.core.hashing import Digest
from rellum.core.notices import inform, note
from rellum.core.pack.home import pack_home
from rellum.core.pack.pack_file import PackFile
from rellum.core.process_lock import hold
from rellum.core.progress import silent
from rellum.core.shelf.intake import Hashes, hashes_of
from rellum.core.shelf.store import Shelf
from rellum.core.words import count_words

STANDARD_PATIENCE = Patience()


class FetchBusy(UserError):
    """Another process fetches to the same shelf."""

    code = "fetch-busy"


class NoRoom(UserError):
    """There is not enough space for the downloads, or for what they unpack to."""

    code = "no-room"


@dataclass(frozen=True, slots=True, kw_only=True)
class Failed:
    """A file that could not be fetched, and why, address by address."""

    needed: NeededFile
    reasons: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Fetched:
    """A file that was fetched and taken, and the addresses that were given up before, with why."""

    taken: TakeOutcome
    given_up: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class FetchResult:
    """What was fetched and taken, what could not be, and what a person must get.

    ``here`` is how many files of the line-up were on the shelf before.
    """

    here: int
    fetched: tuple[Fetched, ...]
    failed: tuple[Failed, ...]
    by_hand: tuple[NeededFile, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ToFetch:
    """What the shelf lacks: what can be fetched, and what a person must get."""

    needs: Needs
    fetchable: tuple[NeededFile, ...]
    by_hand: tuple[NeededFile, ...]


def look(request: Request, shelf: Shelf, listed: Sequence[ListedFile] = ()) -> ToFetch:
    """Tell what is missing. ``listed`` are more addresses.

    A file is only fetched where its card, or a list, has a hash for it. Raises what reading the pack
    can raise.
    """
    needs = needs_of(request.pack_folder, shelf)
    by_key: dict[tuple[str, str | None], NeededFile] = {}
    for each in needs.missing:
        by_key.setdefault((each.file.name, each.file.sha256), _with_listed(each, listed))
    missing = tuple(by_key.values())
    return ToFetch(
        needs=needs,
        fetchable=tuple(each for each in missing if each.can_be_fetched),
        by_hand=tuple(each for each in missing if not each.can_be_fetched),
    )


class _Lists(NamedTuple):
    """What lists say that somebody else made: addresses of files, and torrents."""

    files: tuple[ListedFile, ...]
    torrents: tuple[Torrent, ...]


def _read_lists(paths: Sequence[str]) -> _Lists:
    """Read Metalink files and torrents. Raises MetalinkFault, TorrentFault, OSError."""
    torrents = tuple(read_torrent_file(each) for each in paths if is_torrent(each))
    files = [each for path in paths if not is_torrent(path) for each in read_metalink(path)]
    files += [each for torrent in torrents for each in listed_in(torrent)]
    return _Lists(tuple(files), torrents)


def _with_listed(needed: NeededFile, listed: Sequence[ListedFile]) -> NeededFile:
    """Return a file with the addresses that lists have for it: the same hash, or the same name."""
    file = needed.file
    for each in listed:
        same_hash = file.sha256 is not None and each.sha256 == file.sha256
        same_name = each.name == file.name and (file.sha256 is None or each.sha256 is None)
        if same_hash or (same_name and each.size in (None, file.size)):
            urls = tuple(dict.fromkeys(file.urls + each.urls))
            # A hash from a list is as good as the list: the card's stands where it has one.
            sha256 = file.sha256 or (None if file.blake3 else each.sha256)
            file = replace(file, urls=urls, sha256=sha256, size=file.size or each.size)
    return replace(needed, file=file)


def write_list(request: Request, target: str) -> tuple[NeededFile, ...]:
    """Write what is missing as a Metalink, by-hand files with their page; return the files.

    Raises what reading the pack can raise, OSError.
    """
    with Shelf(request.shelf_folder) as shelf:
        missing = needs_of(request.pack_folder, shelf).missing
    files = [
        ListedFile(
            name=each.file.name,
            size=each.file.size,
            sha256=each.file.sha256,
            urls=tuple(url for url in each.file.urls if not url.startswith("file:")),
            description=" ".join(filter(None, (each.release.name, each.file.by_hand))),
            page=each.file.page,
        )
        for each in missing
    ]
    write_durably(os.path.abspath(target), metalink_text(files).encode("utf-8"))
    return missing


def fetch(
    request: Request,
    listen: FetchListener,
    *,
    lists: Sequence[str] = (),
    patience: Patience = STANDARD_PATIENCE,
) -> FetchResult:
    """Fetch all that can be fetched, and take each file as it is there.

    Where there is no line-up yet, it is made first. Finished downloads stay when this is interrupted, and the
    next call goes on from there. Raises NoRoom
    and FetchBusy before anything is fetched, and what reading the pack can raise.
    """
    if not os.path.exists(pack_home(request.pack_folder).lock_file):
        resolve(request)
    with opened_taker(
        request.pack_folder, request.shelf_folder, HowToTake(by="move"), silent
    ) as taker:
        more = _read_lists(lists)
        wanted = look(request, taker.shelf, more.files)
        folder = os.path.join(taker.shelf.folder, "fetching")
        os.makedirs(folder, exist_ok=True)
        _refuse_without_room(wanted, folder)
        lock = os.path.join(folder, "lock")
        fetched: list[Fetched] = []
        failed: list[Failed] = []
        upstream = upstream_of(taker.shelf.folder)
        here = len(wanted.needs.files) - len(wanted.needs.missing)
        if upstream and wanted.needs.missing:
            fetched += _from_upstream(upstream, taker, wanted, folder)
            wanted = look(request, taker.shelf, more.files)
        with hold(lock, f"the shelf {taker.shelf.folder}", FetchBusy):
            if more.torrents and wanted.needs.missing:
                came = from_swarms(more.torrents, wanted.needs.missing, folder, listen)
                fetched += _taken(taker, came, "the swarm")
                wanted = look(request, taker.shelf, more.files)
            fetcher = Fetcher(folder, patience, listen)
            for each, outcome in _fetched(fetcher, wanted):
                taken, reasons = _take(taker, fetcher, outcome)
                if taken:
                    fetched.append(Fetched(taken=taken, given_up=outcome.reasons))
                else:
                    failed.append(Failed(needed=each, reasons=reasons))
        if upstream:
            _fill(upstream, taker.shelf, wanted)
    return FetchResult(
        here=here,
        fetched=tuple(fetched),
        failed=tuple(failed),
        by_hand=wanted.by_hand,
    )


def _from_upstream(
    upstream: Upstream, taker: ArchiveTaker, wanted: ToFetch, folder: str
) -> Iterator[Fetched]:
    """Yield what the shelf's upstream has of what is missing, files to be got by hand among it."""
    target = os.path.join(folder, f"upstream-{os.getpid()}")

    def brought() -> Iterator[tuple[NeededFile, str]]:
        for each in wanted.needs.missing:
            try:
                if upstream.bring(Named(each.file.blake3, each.file.sha256), target) is not None:
                    yield each, target
            except (RellumError, OSError) as error:
                words = error.summary if isinstance(error, RellumError) else str(error)
                note(f"not from the shelf's upstream: {each.file.name}: {words}")

    return _taken(taker, brought(), "the shelf's upstream")


def _taken(
    taker: ArchiveTaker, brought: Iterable[tuple[NeededFile, str]], whence: str
) -> Iterator[Fetched]:
    """Take files that were brought from elsewhere than their addresses; what is another file is left out."""
    for each, path in brought:
        try:
            hashes = hashes_of(path, frozenset({"sha256"}))
            if each.file.sha256 not in (None, hashes.others["sha256"]):
                os.unlink(path)
                continue
            taken = taker.take_fetched(path, each.file.name, hashes)
        except (RellumError, OSError) as error:
            words = error.summary if isinstance(error, RellumError) else str(error)
            note(f"not from {whence}: {each.file.name}: {words}")
            with suppress(FileNotFoundError):
                os.unlink(path)
            continue
        yield Fetched(taken=replace(taken, path=each.file.name), given_up=())


def _fill(upstream: Upstream, shelf: Shelf, wanted: ToFetch) -> None:
    """Put what the line-up needs into the upstream, where that lacks it; a fault there is only told."""
    count = 0
    for each in wanted.needs.files:
        entry = shelf.find(each.file, each.release)
        if entry is None:
            continue
        try:
            count += upstream.fill(entry.digest, each.file.sha256, shelf.path_of(entry.digest))
        except (RellumError, OSError) as error:
            words = error.summary if isinstance(error, RellumError) else str(error)
            note(f"the shelf's upstream could not be filled: {words}")
            return
    if count:
        inform(
            f"{count_words(count, 'archive', 'archives')} put into the upstream {upstream.address}."
        )


def _fetched(fetcher: Fetcher, to_fetch: ToFetch) -> Iterator[tuple[NeededFile, Outcome]]:
    by_wanted = {_wanted(each, to_fetch.needs.pack): each for each in to_fetch.fetchable}
    for outcome in fetcher.fetch(tuple(by_wanted)):
        yield by_wanted[outcome.wanted], outcome


def _take(
    taker: ArchiveTaker, fetcher: Fetcher, outcome: Outcome
) -> tuple[TakeOutcome | None, tuple[str, ...]]:
    """Take a file that was fetched; return it, or why it could not be had."""
    wanted = outcome.wanted
    if outcome.path is None:
        return None, outcome.reasons
    size = os.path.getsize(outcome.path)
    done = FileProgress(name=wanted.name, state="checking", done=size, total=size)
    fetcher.note(wanted, done)
    try:
        hashes = Hashes(size=size, digest=Digest(outcome.blake3), others=dict(outcome.others))
        taken = taker.take_fetched(outcome.path, wanted.name, hashes)
    except RellumError as error:
        fetcher.note(wanted, replace(done, state="failed", words="cannot be taken"))
        if isinstance(error, ArchiveFault):
            # The bytes are right and yet no good archive: no later try would change that.
            forget_partial(outcome.path)
        return None, (*outcome.reasons, error.summary.replace(outcome.path, wanted.name))
    forget_partial(outcome.path)
    if taken.outcome == "refused":  # the last part of an archive that is not whole
        fetcher.note(wanted, replace(done, state="failed", words="cannot be taken"))
        return None, (*outcome.reasons, taken.reason)
    fetcher.note(wanted, replace(done, state="fetched"))
    return replace(taken, path=wanted.name), ()


def _wanted(needed: NeededFile, pack: PackFile) -> Wanted:
    file = needed.file
    return Wanted(
        name=file.name,
        size=file.size,
        sha256=file.sha256,
        blake3=file.blake3,
        urls=file.urls,
        folder=os.path.dirname(needed.release.source.file),
        sources=(*pack.catalogs, *pack.sources),
    )


def _refuse_without_room(wanted: ToFetch, folder: str) -> None:
    """Check that there is room for the archives, and for what they unpack to, before the first byte.

    Where no card tells what an archive unpacks to, its own size is counted: it is rarely less.
    """
    packed = unpacked = 0
    for each in wanted.fetchable:
        size = each.file.size or 0
        key = os.path.join(folder, _wanted(each, wanted.needs.pack).key)
        packed += max(0, size - (os.path.getsize(key) if os.path.exists(key) else 0))
        unpacked += each.file.unpacked or size
    game = wanted.needs.pack.game_folder or folder
    same_disk = os.path.exists(game) and os.stat(game).st_dev == os.stat(folder).st_dev
    rows = [(folder, packed + (unpacked if same_disk else 0))]
    if not same_disk and os.path.exists(game):
        rows.append((game, unpacked))
    for where, needed in rows:
        free = shutil.disk_usage(where).free
        if needed > free:
            raise NoRoom(
                f"{needed:,} bytes are needed where {where} lies, and {free:,} are free: "
                f"{packed:,} to fetch, {unpacked:,} when unpacked",
                hint="Make room ('rellum shelf trim'), or set RELLUM_SHELF to another disk.",
            )
