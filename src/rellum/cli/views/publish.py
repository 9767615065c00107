"""What ``rellum publish`` shows."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.share import PublishedDocument, WrittenDocument
    from rellum.core.actions.share.publish import PublishResult
    from rellum.core.actions.share.same_again import SameAgain

_FEW = 6
Written = Sequence[tuple[str, int]]
"""Files that were written beside the feed, each with its size in bytes."""


def show(
    found: PublishResult, written: Written = (), *, wants_torrent: bool = False, as_json: bool
) -> None:
    published = found.published
    if wants_torrent and not published.torrent:
        console.warn(
            f"version {published.version} was published without a torrent, and stays so: the next gets one"
        )
    if as_json:
        console.say_json(document(found, written))
        return
    _tell(found)
    for file, size in written:
        console.say(f"Wrote {file}, {console.bytes_text(size)}.")


def show_same(address: str, same: SameAgain, *, as_json: bool) -> None:
    if not as_json:
        _tell_same(address, same.version, same.fingerprint)
        return
    found: PublishedDocument = {
        "address": address,
        "version": same.version,
        "is_new": False,
        "fingerprint": same.fingerprint,
        "line_up_fingerprint": same.line_up,
        "tree_fingerprint": same.tree,
        "release_count": same.release_count,
        "file_count": same.file_count,
        "content_bytes": same.content_bytes,
        "written_bytes": 0,
        "updates_from": list(same.deltas),
        "torrent": same.torrent,
        "files": [],
        "only_named": [],
    }
    console.say_json(found)


def _tell_same(address: str, version: int, fingerprint: str) -> None:
    console.say(f"Nothing new: version {version} in {address} has the same.")
    console.say(f"Fingerprint: {fingerprint}")


def show_lists(written: Written, *, as_json: bool) -> None:
    if as_json:
        console.say_json({"files": _files(written)})
        return
    for file, size in written:
        console.say(f"Wrote {file}, {console.bytes_text(size)}.")


def _files(written: Written) -> list[WrittenDocument]:
    return [{"file": file, "bytes": size} for file, size in written]


def _tell(found: PublishResult) -> None:
    published = found.published
    if not published.is_new:
        _tell_same(found.address, published.version, published.fingerprint)
        return
    releases = console.count_text(found.release_count, "release")
    files = console.count_text(published.file_count, "file")
    size = console.bytes_text(published.content_bytes)
    pairs = [
        ("published", f"version {published.version} in {found.address}"),
        ("content", f"{releases}, {files}, {size}"),
        ("written", console.bytes_text(published.written_bytes)),
        ("updates", _update_words(published.deltas)),
        *([("torrent", published.torrent)] if published.torrent else []),
        ("line-up", found.sameness.line_up),
        ("laid", found.sameness.tree),
        ("fingerprint", published.fingerprint),
    ]
    console.facts(pairs)
    if found.only_named:
        console.say()
        count = console.count_text(len(found.only_named), "archive")
        console.say(f"{count} not in the feed; players get them where their cards say:")
        console.table(
            ("mod", "archive", "because"),
            [(each.mod, each.file, each.why) for each in found.only_named[:_FEW]],
        )
        if len(found.only_named) > _FEW:
            console.say(f"… and {len(found.only_named) - _FEW:,} more")
    console.say()
    console.say("Players: rellum follow ADDRESS --game FOLDER --trust " + published.fingerprint)


def _update_words(deltas: tuple[int, ...]) -> str:
    if not deltas:
        return "none yet: it is the first version"
    return f"from version {', '.join(map(str, deltas))} by what changed alone"


def show_renewed(address: str, version: int, *, as_json: bool) -> None:
    if as_json:
        console.say_json({"address": address, "renewed": version})
        return
    console.say(f"Renewed: version {version} in {address} is the newest for another 30 days.")


def show_rotated(address: str, folder: str, root: int, *, as_json: bool) -> None:
    if as_json:
        console.say_json({"address": address, "key_folder": folder, "root_version": root})
        return
    console.say(f"From now on the keys in {folder} sign {address}; the old ones count no more.")
    console.say("Players need to do nothing: the fingerprint stays the same.")
    console.say(
        f"Publish with --key-folder {shlex.quote(folder)}, or put them where the old ones were."
    )


def document(found: PublishResult, written: Written = ()) -> PublishedDocument:
    """Return what was published, for programs."""
    published = found.published
    return {
        "address": found.address,
        "version": published.version,
        "is_new": published.is_new,
        "fingerprint": published.fingerprint,
        "line_up_fingerprint": found.sameness.line_up,
        "tree_fingerprint": found.sameness.tree,
        "release_count": found.release_count,
        "file_count": published.file_count,
        "content_bytes": published.content_bytes,
        "written_bytes": published.written_bytes,
        "updates_from": list(published.deltas),
        "torrent": published.torrent,
        "files": _files(written),
        "only_named": [
            {"mod": each.mod, "file": each.file, "why": each.why, "can_be_had": each.can_be_had}
            for each in found.only_named
        ],
    }
