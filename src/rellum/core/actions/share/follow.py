"""Follow: a feed's version into a pack of the player's own, whose settings, saves and own wants stay.

What the feed says lies in the pack's folder ``feed``: its texts, and what was verified of it. The player's
rellum.toml takes over what changed there, key by key; the line-up is the feed's own wherever the player
asks for nothing else.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any, Final, Literal, NamedTuple

from rellum.core.actions.gather.archive_taker import HowToTake, opened_taker
from rellum.core.actions.match.resolve import resolve
from rellum.core.actions.set_up.adopt import AdoptResult, adopt, choose_sheet
from rellum.core.actions.share.feed_content import CATALOG
from rellum.core.actions.share.feed_files import (
    Bringing,
    known_version,
    refuse_strange,
    remember,
    swap_in,
    work_folder,
)
from rellum.core.catalog.load import load_sheets
from rellum.core.change.request import Request
from rellum.core.durable import write_durably
from rellum.core.errors import RellumError, UserError
from rellum.core.feed.addresses import reader_of
from rellum.core.feed.bringing import bring_index
from rellum.core.feed.feed_index import FeedFault, Index
from rellum.core.feed.feed_keys import require_packages
from rellum.core.feed.swarm import swarmed
from rellum.core.feed.trusting import Believed, Trust, believe
from rellum.core.folder.detection import identify
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, TRIALS_FILE, PackHome, read_text
from rellum.core.pack.lock_file import LockFile, lock_text, read_lock_text
from rellum.core.pack.pack_edits import set_feed
from rellum.core.pack.pack_file import PackFile, asked_hash, read_pack_file
from rellum.core.pack.pending_follow import (
    FOLDER,
    keep_before,
    let_wait,
    note_written,
    reopen_pending,
    settle_pending,
    take_back,
)
from rellum.core.patching.merge import merge_settings
from rellum.core.shelf.intake import hashes_of
from rellum.core.toml_comments import comments_in_place
from rellum.core.values.paths import Roots

_TABLES: Final = (
    "pack",
    "game",
    "variables",
    "settings",
    "nested",
    "graft",
    "want",
    "winner",
    "hold",
)
_OF_PACK: Final = ("name", "trust", "look-at", "catalogs")
_OF_GAME: Final = ("sheet", "range", "profile")


class CannotFollow(UserError):
    """A feed cannot be followed here: no game for it, another pack in the way, or no such version."""

    code = "cannot-follow"


class FollowOptions(NamedTuple):
    """What is followed. ``address`` and ``game`` may be empty where the pack follows a feed already.

    ``version`` 0: the newest. ``trust`` is asked once. ``swarms``: what is large may come from other players.
    """

    address: str
    game: str
    trust: Trust
    version: int = 0
    swarms: bool = True


class Followed(NamedTuple):
    """What came of it. ``before`` is the version that was here, 0 where none was.

    adopted: what adopting the game found, for a new pack
    is_exact: the line-up is the feed's own, release by release
    conflicts: keys of rellum.toml that both sides changed; the player's stay
    received, requests: the bytes that came from the feed, and in how many requests
    from_swarm: those of them that came from other players and the torrent's web seed
    taken: how many archives came onto the shelf
    """

    address: str
    fingerprint: str
    version: int
    before: int
    facts: dict[str, str]
    adopted: AdoptResult | None
    is_exact: bool
    conflicts: tuple[str, ...]
    received: int
    requests: int
    from_swarm: int
    taken: int


def follow(request: Request, how: FollowOptions) -> Followed:
    """Bring a version of a feed into the pack, with its line-up and archives; the game stays as it is.

    It is to be ended with ``end_follow``, once the game has it or does not.

    Raises CannotFollow, NotTrusted, FeedUnreachable, FeedFault, NoLineUpExists, what adopting can raise,
    OSError.
    """
    require_packages()
    home = PackHome(os.path.abspath(request.pack_folder))
    address = _address(home, how)
    reader = reader_of(address)
    folder = os.path.join(home.folder, FOLDER)
    believed = believe(reader, os.path.join(folder, "trust"), how.trust)
    entry = believed.versions.get(how.version) if how.version else believed.newest
    if entry is None:
        there = ", ".join(map(str, sorted(believed.versions)[-8:]))
        raise CannotFollow(f"the feed has no version {how.version}", hint=f"It has {there}.")
    reopen_pending(home)
    known = known_version(folder)
    found = bring_index(reader, entry, known[0] if known else None)
    refuse_strange(found.listing)
    is_new = not os.path.isfile(home.state_file)
    request = request._replace(follows=True)
    with (
        work_folder(request.shelf_folder) as work,
        swarmed(reader, entry if how.swarms else None, found.listing, work) as source,
    ):
        bringing = Bringing(source, found, known, folder, request)
        bringing.bring(work, texts=True, archives=not is_new)
        keep_before(home)
        try:
            swap_in(home, found.listing, work)
            if is_new:
                _refuse_other_game(folder, how.game)
                bringing.bring(work, texts=False, archives=True)
            adopted, conflicts, is_exact = _take_over(
                request, home, how, address, entry.version, bringing.archives
            )
            remember(folder, entry.version, found.text)
            note_written(home)
        except BaseException:
            take_back(home)
            raise
    return Followed(
        address=address,
        fingerprint=believed.fingerprint,
        version=entry.version,
        before=known[0].version if known else 0,
        facts=dict(found.listing.facts),
        adopted=adopted,
        is_exact=is_exact,
        conflicts=conflicts,
        received=source.received,
        requests=source.requests,
        from_swarm=source.from_swarm,
        taken=len(bringing.archives),
    )


def end_follow(request: Request, outcome: Literal["done", "waits", "refused"]) -> None:
    """Let the version stay that came, wait for archives, or go again. Raises OSError."""
    home = PackHome(os.path.abspath(request.pack_folder))
    {"done": settle_pending, "waits": let_wait, "refused": take_back}[outcome](home)


def facts_of(request: Request) -> tuple[int, dict[str, str]]:
    """Return the version that a pack follows, and what its curator said of it. Raises CannotFollow."""
    home = PackHome(os.path.abspath(request.pack_folder))
    known = known_version(os.path.join(home.folder, FOLDER))
    if known is None:
        raise CannotFollow(
            "this pack follows no feed", hint="'rellum follow ADDRESS' makes one that does."
        )
    return known[0].version, dict(known[1].facts)


def newest_of(address: str, folder: str, trust: Trust) -> tuple[Believed, Index]:
    """Return what a feed has, and its newest index. Raises what reading and trusting it can raise."""
    require_packages()
    reader = reader_of(address)
    believed = believe(reader, folder, trust)
    return believed, bring_index(reader, believed.newest, None).listing


def whole_address(address: str) -> str:
    """Return an address as it is kept: that of a folder or file from the root on."""
    return address if not address or "://" in address else os.path.abspath(address)


def _address(home: PackHome, how: FollowOptions) -> str:
    """Return the feed's address. Raises CannotFollow for a pack that is somebody's own."""
    address = whole_address(how.address)
    is_there = os.path.isfile(home.pack_file)
    if not is_there and not address:
        raise CannotFollow("there is no pack here yet", hint="rellum follow ADDRESS --game FOLDER")
    if not how.game and not os.path.isfile(home.state_file):
        words = " ".join(filter(None, ("rellum follow", how.address, "--game FOLDER")))
        raise CannotFollow("which game folder is it for?", hint=words)
    if not is_there:
        return address
    feed = read_pack_file(home).feed
    if feed is None:
        raise CannotFollow(
            f"{home.folder} is a pack of your own, and follows no feed",
            hint="Follow in a folder of its own: --pack FOLDER",
        )
    return address or feed.address


def _take_over(
    request: Request,
    home: PackHome,
    how: FollowOptions,
    address: str,
    version: int,
    archives: Sequence[str],
) -> tuple[AdoptResult | None, tuple[str, ...], bool]:
    """Let rellum.toml and rellum.lock say what the feed says."""
    folder = os.path.join(home.folder, FOLDER)
    theirs = accepted_text(read_text(os.path.join(folder, "pack", PACK_FILE)) or "")
    lock_said, lock = _lock_of(folder)
    adopted = None
    conflicts: tuple[str, ...] = ()
    mine = read_text(home.pack_file)
    base_file = os.path.join(folder, "old", "pack", PACK_FILE)
    if mine is None:
        text = theirs
    else:
        base = accepted_text(read_text(base_file) or "")
        merged = merge_settings(
            _bytes(base), _bytes(mine), _bytes(theirs), "toml", "mine", PACK_FILE
        )
        text = merged.content.decode("utf-8", "surrogateescape")
        conflicts = tuple(each.key for each in merged.conflicts)
    _write(home.pack_file, set_feed(text, address, version))
    if not os.path.isfile(home.state_file):
        adopted = adopt(request, how.game, version=lock.game_version.text)
        settle_pending(home)  # from here on it is a pack that has its game
    pack = read_pack_file(home)
    is_exact = _asks_the_same(pack, folder)
    _write(
        home.lock_file,
        lock_text(replace(lock, asked=asked_hash(pack))) if is_exact else lock_said,
    )
    if not is_exact:
        resolve(request)
    _take_trials(home, folder)
    _shelve(request, archives)
    return adopted, conflicts, is_exact


def _lock_of(folder: str) -> tuple[str, LockFile]:
    """Return the feed's line-up, as text and read. Raises FeedFault."""
    said = read_text(os.path.join(folder, "pack", LOCK_FILE)) or ""
    lock = read_lock_text(said, f"{FOLDER}/pack/{LOCK_FILE}")
    if lock is None:
        raise FeedFault(f"the feed's {LOCK_FILE} cannot be read")
    return said, lock


def _shelve(request: Request, archives: Sequence[str]) -> None:
    """Put what was brought onto the shelf, parts of one archive together. Raises FeedFault."""
    how = HowToTake(by="move")
    with (
        opened_taker(request.pack_folder, request.shelf_folder, how, request.listen) as taker,
        ThreadPoolExecutor(os.cpu_count()) as workers,
    ):
        hashed = workers.map(lambda path: hashes_of(path, frozenset({"sha256"})), archives)
        for path, hashes in zip(archives, hashed, strict=True):
            name = os.path.basename(path)
            try:
                taker.take_fetched(path, name, hashes)
            except RellumError as error:
                raise FeedFault(
                    f"an archive of the feed is refused: {name}",
                    details=(error.summary, *error.details),
                    hint="Tell its curator. What is installed stays as it is.",
                ) from error


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _write(path: str, text: str) -> None:
    write_durably(path, _bytes(text))


def _take_trials(home: PackHome, folder: str) -> None:
    """Let the pack know the curator's trials where it has none of its own."""
    said = read_text(os.path.join(folder, "pack", TRIALS_FILE))
    if said is not None and not os.path.exists(home.trials_file):
        _write(home.trials_file, said)


def accepted_text(text: str) -> str:
    """Return what a player takes over of a curator's rellum.toml.

    Nothing of it may say where on this machine something lies, or how large an archive may be. Raises
    FeedFault.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        document: Any = tomlkit.parse(text)
        for key in [key for key in document if key not in _TABLES]:
            document.pop(key)
        for table, kept in (("pack", _OF_PACK), ("game", _OF_GAME)):
            for key in [key for key in document.get(table, {}) if key not in kept]:
                document[table].pop(key)
        document.setdefault("pack", tomlkit.table())["catalogs"] = [f"{FOLDER}/{CATALOG}"]
        for number, graft in enumerate(document.get("graft", ())):
            graft["donor"] = f"donors/{number + 1}"
        return comments_in_place(text, tomlkit.dumps(document))
    except (TOMLKitError, AttributeError, TypeError) as error:
        raise FeedFault(f"the feed's {PACK_FILE} cannot be read ({error})") from error


def _asks_the_same(pack: PackFile, folder: str) -> bool:
    """Whether the player asks for just what the curator does, in whatever order."""
    with tempfile.TemporaryDirectory(prefix="rellum-") as work:
        text = accepted_text(read_text(os.path.join(folder, "pack", PACK_FILE)) or "")
        _write(os.path.join(work, PACK_FILE), text)
        other = read_pack_file(PackHome(work))
    return _asked(pack) == _asked(other)


def _asked(pack: PackFile) -> object:
    wants = {(each.mod, each.range_text, each.optional, each.options) for each in pack.wants}
    holds = {(each.mod, each.version_text) for each in pack.holds}
    return pack.trust, str(pack.game_range or ""), wants, holds


def _refuse_other_game(folder: str, game: str) -> None:
    """Refuse a game that the feed's line-up is not for. Raises CannotFollow, UnknownGame."""
    _, lock = _lock_of(folder)
    roots = Roots(game)
    sheet = choose_sheet(load_sheets((os.path.join(folder, CATALOG),)), lock.sheet, roots)
    # Where no rule of the sheet tells a version, it is taken to be the pack's.
    identity = identify(sheet, roots, stated=None if sheet.version_rules else lock.game_version)
    wrong = _differences(lock, identity.version.text, identity.edition, identity.expansions)
    if wrong:
        raise CannotFollow(
            f"{roots.game_folder} is not the game that this pack is for",
            details=wrong,
            hint="Bring it to that version with your store, or name another copy with --game.",
        )


def _differences(
    lock: LockFile, version: str, edition: str | None, expansions: Sequence[str]
) -> tuple[str, ...]:
    found = []
    if version != lock.game_version.text:
        found.append(f"the pack is for version {lock.game_version.text}, and this is {version}")
    if lock.edition and edition != lock.edition:
        found.append(f"the pack is for the edition {lock.edition}, and this is {edition or 'none'}")
    lacking = sorted(set(lock.expansions) - set(expansions))
    if lacking:
        found.append(f"the pack needs {', '.join(lacking)}")
    return tuple(found)
