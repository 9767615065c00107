"""Take from an address: fetch a file that a card names, or that somebody says what it is, and take it."""

from __future__ import annotations

import os
import shutil
import tempfile
from dataclasses import replace
from urllib.parse import unquote, urlsplit

from rellum.core.actions.gather.archive_taker import (
    HowToTake,
    TakeOutcome,
    find_release,
    opened_taker,
)
from rellum.core.actions.gather.fetch import STANDARD_PATIENCE, FetchBusy
from rellum.core.actions.gather.take import take
from rellum.core.archives.model import ArchiveFault
from rellum.core.catalog.model import Catalog
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.change.request import Request
from rellum.core.fetching.fetcher import Fetcher
from rellum.core.fetching.model import FetchProgress, Wanted
from rellum.core.fetching.partial import forget_partial
from rellum.core.hashing import hash_bytes
from rellum.core.process_lock import hold
from rellum.core.progress import Progress
from rellum.core.values.paths import fault_in_name

_SCHEMES = ("http://", "https://")


def is_address(text: str) -> bool:
    """Whether a text is an address on the web, and no path."""
    return text.lower().startswith(_SCHEMES)


def take_address(request: Request, address: str, how: HowToTake) -> tuple[TakeOutcome, ...]:
    """Fetch a file, and take it. It is one that a card names, or ``how`` states its release.

    Raises ArchiveFault where nobody says what it is, or it cannot be had; FetchBusy, and as ``take`` does.
    """
    with opened_taker(request.pack_folder, request.shelf_folder, how, request.listen) as taker:
        named = _named(taker.catalog, address)
        if named is None and not how.stated:
            raise ArchiveFault(
                f"no card names {address}, so nobody knows what it should be",
                hint="Say which release it is: rellum take ADDRESS --as MOD@VERSION",
            )
        if how.stated:
            find_release(taker.catalog, how.stated)
        folder = os.path.join(taker.shelf.folder, "fetching")
    os.makedirs(folder, exist_ok=True)
    with hold(os.path.join(folder, "lock"), f"the shelf {request.shelf_folder}", FetchBusy):
        fetched = _fetched(request, address, named, folder)
    own = tempfile.mkdtemp(prefix="taken-", dir=folder)
    try:
        file = os.path.join(own, named.name if named else _name_in(address))
        os.replace(fetched, file)
        forget_partial(fetched)  # and what was noted beside it
        outcomes = take(request, [file], replace(how, by="move", each=False))
        return tuple(replace(each, path=address) for each in outcomes)
    finally:
        shutil.rmtree(own, ignore_errors=True)


def _named(catalog: Catalog, address: str) -> ReleaseFile | None:
    """Return the file of a card that is to be had from an address."""
    files = (
        file
        for mod in catalog.mods.values()
        for release in mod.releases
        for file in release.all_files
        if address in file.urls
    )
    return next(files, None)


def _fetched(request: Request, address: str, named: ReleaseFile | None, folder: str) -> str:
    """Fetch a file, or the rest of it; return where it is. Raises ArchiveFault."""
    key = hash_bytes(address.encode("utf-8", "surrogateescape"))[:32]
    wanted = Wanted(
        name=named.name if named and (named.blake3 or named.sha256) else key,
        size=named.size if named else None,
        sha256=named.sha256 if named else None,
        blake3=named.blake3 if named else None,
        urls=(address,),
    )

    def listen(progress: FetchProgress) -> None:
        request.listen(
            Progress(
                stage="fetching",
                files=0,
                total_files=0,
                bytes=sum(each.done for each in progress.files),
                total_bytes=sum(each.total or 0 for each in progress.files),
            )
        )

    for outcome in Fetcher(folder, STANDARD_PATIENCE, listen).fetch((wanted,)):
        if outcome.path is not None:
            return outcome.path
        unfinished = os.path.join(folder, wanted.key)
        if os.path.exists(unfinished) and not os.path.getsize(unfinished):
            forget_partial(unfinished)
        raise ArchiveFault(
            f"{address} cannot be had",
            details=outcome.reasons,
            hint="Try again, or download it yourself.",
        )
    raise AssertionError("a fetch of one file has one outcome")


def _name_in(address: str) -> str:
    """Return the file name in an address, if it is one that every system can hold."""
    name = unquote(urlsplit(address).path).rpartition("/")[2]
    return name if name and not fault_in_name(name) and "/" not in name else "download"
