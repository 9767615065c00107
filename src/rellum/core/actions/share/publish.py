"""Publish: the pack as the next version of a feed that players follow."""

from __future__ import annotations

import os
import tempfile
from typing import NamedTuple

from rellum.core.actions.change.status import line_up_state
from rellum.core.actions.share.feed_content import (
    CannotPublish,
    FeedContent,
    OnlyNamed,
    content_of_pack,
    unobtainable,
)
from rellum.core.actions.share.same_again import SameAgain, note_published
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.feed import metadata
from rellum.core.feed.addresses import store_of
from rellum.core.feed.bundling import feed_folder
from rellum.core.feed.feed_keys import CURATOR, TIMESTAMP, Password, load_key, require_packages
from rellum.core.feed.publishing import (
    Published,
    Signers,
    TorrentMaker,
    publish_version,
    published_before,
    remember,
    renew,
    rotate,
)
from rellum.core.feed.storing import FeedStore
from rellum.core.feed.torrents import TorrentPlace, make_torrent
from rellum.core.hashing import hash_bytes
from rellum.core.pack.home import pack_home
from rellum.core.pack.pack_edits import allow_sharing
from rellum.core.pack.sameness import Sameness, sameness_of
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf


class PublishOptions(NamedTuple):
    """How a pack is published. ``words`` say what changed; ``allow`` are mods that may be handed on.

    ``torrent_at``: where web seed and trackers of its torrent are, if it gets one.
    """

    to: str
    key_folder: str
    password: Password
    words: str = ""
    allow: tuple[str, ...] = ()
    takes_over: bool = False
    torrent_at: TorrentPlace | None = None


class PublishResult(NamedTuple):
    """What was published, what is only named in it, and by what people can see that they have the same."""

    address: str
    published: Published
    sameness: Sameness
    release_count: int
    only_named: tuple[OnlyNamed, ...]


def publish(request: Request, how: PublishOptions) -> PublishResult:
    """Publish the line-up. The game must be as it says: what the curator has is what players get.

    Raises CannotPublish, KeyFault, AlreadyPublished, NoFeedPackages, NoTorrent, NoFolder, FeedFault, OSError.
    """
    require_packages()
    torrent_of = _torrent_maker(how)
    with (
        open_pack(request) as opened,
        Shelf(request.shelf_folder) as shelf,
        tempfile.TemporaryDirectory(prefix="rellum-") as work,
    ):
        if how.allow:
            allow_sharing(opened.home, how.allow)
            opened = opened.with_files_of(opened.home)
        _refuse_unfinished(opened)
        lock = opened.files.lock
        content = content_of_pack(opened, shelf, lock, work)
        if lacking := unobtainable(content, lock.releases):
            raise CannotPublish(
                f"players could not get {', '.join(sorted({each.mod for each in lacking}))}",
                details=tuple(f"{each.mod}, {each.file}: {each.why}" for each in lacking),
                hint="Say in the card where it is ('from', 'page'), or that you may hand it on: --allow MOD",
            )
        sameness = sameness_of(lock, opened.state)
        facts = {
            "pack": opened.files.pack.name,
            "game": f"{opened.state.identity().name} {lock.game_version.text}",
            "words": how.words,
            "line_up": sameness.line_up,
            "tree": sameness.tree,
        }
        store = store_of(how.to)
        kept = os.path.join(opened.home.state_folder, "published", hash_bytes(how.to.encode())[:16])
        published = published_before(kept, store, content.sources)
        if published is None:
            published = _publish(store, content, facts, kept, how, torrent_of)
        if not content.only_named:
            same = SameAgain(
                published.version,
                published.fingerprint,
                published.file_count,
                published.content_bytes,
                published.deltas,
                *sameness,
                len(lock.releases),
                published.torrent,
            )
            note_published(opened.home, opened.files.catalog.folders, how.to, same)
        return PublishResult(how.to, published, sameness, len(lock.releases), content.only_named)


def _torrent_maker(how: PublishOptions) -> TorrentMaker | None:
    """Return what makes the version's torrent. Raises NoTorrent, NoFolder."""
    place = how.torrent_at
    if place is None:
        return None
    folder = feed_folder(how.to)
    place.check()
    return lambda names: make_torrent(folder, names, place)


def _publish(
    store: FeedStore,
    content: FeedContent,
    facts: dict[str, str],
    kept: str,
    how: PublishOptions,
    torrent_of: TorrentMaker | None,
) -> Published:
    """Sign and write a version. Raises KeyFault, AlreadyPublished, FeedFault, OSError."""
    signers = Signers(
        load_key(how.key_folder, CURATOR, how.password),
        load_key(how.key_folder, TIMESTAMP, how.password),
    )
    published = publish_version(
        store,
        signers,
        content.sources,
        facts,
        kept,
        metadata.now,
        takes_over=how.takes_over,
        torrent_of=torrent_of,
    )
    remember(kept, store, content.sources, published)
    return published


def renew_feed(address: str, key_folder: str, password: Password) -> int:
    """Say once more that the newest version is the newest. Raises KeyFault, FeedFault, OSError."""
    require_packages()
    return renew(store_of(address), load_key(key_folder, TIMESTAMP, password), metadata.now)


def rotate_keys(request: Request, how: PublishOptions, new_keys: str) -> int:
    """Let the keys in another folder sign from now on; return the root's version.

    Raises KeyFault, NotInFeed, FeedFault, AlreadyPublished, OSError.
    """
    require_packages()
    kept = os.path.join(pack_home(request.pack_folder).state_folder, "published")
    old = load_key(how.key_folder, CURATOR, how.password)
    signers = Signers(
        load_key(new_keys, CURATOR, how.password), load_key(new_keys, TIMESTAMP, how.password)
    )
    folder = os.path.join(kept, hash_bytes(how.to.encode())[:16])
    return rotate(store_of(how.to), old, signers, folder, metadata.now)


def _refuse_unfinished(opened: Session) -> None:
    """Refuse a pack whose game is not as its line-up says. Raises CannotPublish."""
    lock = opened.files.lock_if_any
    state = line_up_state(lock, opened.files.pack, opened.state.identity())
    if lock is None or state != "current":
        raise CannotPublish(
            "there is no line-up that fits rellum.toml and the game", hint="First: rellum resolve"
        )
    if {*opened.state.releases_in_game()} != {*lock.names}:
        raise CannotPublish(
            "the game is not as the line-up says yet",
            hint="First: rellum apply, and see that it works.",
        )
