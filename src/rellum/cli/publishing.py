"""What ``rellum publish`` was asked for, and the ways in which it does it."""

from __future__ import annotations

from typing import NamedTuple

from rellum.cli import console
from rellum.cli.key_password import key_folder_of, password_of
from rellum.cli.list_files import ListFiles, write_lists
from rellum.cli.request import request_of
from rellum.cli.views import publish as view
from rellum.core.actions.share.publish import PublishOptions, publish, renew_feed, rotate_keys
from rellum.core.feed.bundling import feed_folder, write_bundle
from rellum.core.feed.feed_keys import have_keys, make_keys, require_packages
from rellum.core.feed.torrents import TorrentPlace


class Asked(NamedTuple):
    """The options of ``rellum publish``, as they were given."""

    to: str
    words: str
    allow: tuple[str, ...]
    makes_keys: bool
    renews: bool
    new_keys: str
    takes_over: bool
    torrent: str
    trackers: tuple[str, ...]
    bundle: str
    lists: ListFiles
    key_folder: str
    pack: str
    as_json: bool

    def check(self) -> None:
        """Refuse options that do not go together. Raises BadCall."""
        others = (self.bundle, self.makes_keys, self.renews, self.new_keys, self.torrent)
        if not self.to and (any(others) or not any(self.lists)):
            raise console.BadCall(
                "name the feed: rellum publish FOLDER, s3://…, davs://… or sftp://…"
            )
        if (self.renews or self.new_keys) and (self.bundle or self.torrent or any(self.lists)):
            raise console.BadCall(
                "--renew and --new-keys publish nothing, and write no file beside"
            )
        if self.trackers and not self.torrent:
            raise console.BadCall("--tracker is for a torrent: --torrent URL")


def publish_as_asked(asked: Asked) -> None:
    """Do what was asked for, and tell what came of it. Raises what the action can raise."""
    require_packages()
    asked.check()
    if not asked.to:
        request = request_of(asked.pack, shelf=True)
        view.show_lists(write_lists(request, asked.lists), as_json=asked.as_json)
        return
    bundled_from = feed_folder(asked.to) if asked.bundle else ""
    password = password_of()
    folder = key_folder_of(asked.key_folder)
    place = TorrentPlace(asked.torrent, asked.trackers) if asked.torrent else None
    how = PublishOptions(
        asked.to, folder, password, asked.words, asked.allow, asked.takes_over, place
    )
    if asked.makes_keys and not have_keys(folder):
        make_keys(folder, password(folder))
        console.note(f"Made the feed's keys in {folder}. Keep a copy in a safe place.")
    if asked.new_keys:
        _change_keys(asked, how)
    elif asked.renews:
        number = renew_feed(asked.to, folder, password)
        view.show_renewed(asked.to, number, as_json=asked.as_json)
    else:
        _publish(asked, how, bundled_from)


def _change_keys(asked: Asked, how: PublishOptions) -> None:
    if not have_keys(asked.new_keys):
        make_keys(asked.new_keys, how.password(asked.new_keys))
    root = rotate_keys(request_of(asked.pack), how, asked.new_keys)
    view.show_rotated(asked.to, asked.new_keys, root, as_json=asked.as_json)


def _publish(asked: Asked, how: PublishOptions, bundled_from: str) -> None:
    with console.progress() as listen:
        result = publish(request_of(asked.pack, shelf=True, listen=listen), how)
    written: tuple[tuple[str, int], ...] = ()
    if any(asked.lists):
        written = write_lists(request_of(asked.pack, shelf=True), asked.lists)
    if asked.bundle:
        written = (*written, (asked.bundle, write_bundle(bundled_from, asked.bundle)))
    view.show(result, written, wants_torrent=bool(asked.torrent), as_json=asked.as_json)
