"""A feed in a folder: versions published and followed, and everything that a hostile server may try."""

from __future__ import annotations

import http.server
import json
import os
import random
import shutil
import tempfile
import threading
import time
import unittest
import unittest.mock
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from rellum.core.errors import UserError
from rellum.core.feed import feed_keys as keys
from rellum.core.feed import metadata
from rellum.core.feed.addresses import NoServer, reader_of, store_of
from rellum.core.feed.bringing import KnownVersion, bring_contents, bring_index
from rellum.core.feed.feed_index import FeedFault, Index
from rellum.core.feed.feed_keys import KeyFault, is_same, load_key, make_keys, sayable_root
from rellum.core.feed.packing import Source
from rellum.core.feed.publishing import Published, Signers, publish_version, renew, rotate
from rellum.core.feed.reading import (
    FeedReader,
    FeedUnreachable,
    FolderReader,
    HttpReader,
    NotInFeed,
)
from rellum.core.feed.storing import AlreadyPublished, FolderStore
from rellum.core.feed.trusting import Believed, NotTrusted, believe, trusting
from rellum.core.hashing import Digest, hash_bytes

PASSWORD = "high tide at noon"


class FeedWorld:
    """A curator with keys and a feed, and players who follow it."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.feed = os.path.join(root, "feed")
        make_keys(os.path.join(root, "keys"), PASSWORD)
        self.signers = self.load(os.path.join(root, "keys"))
        self.days = 0

    @staticmethod
    def load(folder: str) -> Signers:
        names = (keys.CURATOR, keys.TIMESTAMP)
        return Signers(*(load_key(folder, name, lambda _: PASSWORD) for name in names))

    def now(self) -> datetime:
        return metadata.now() + timedelta(days=self.days)

    def publish(self, contents: dict[str, bytes], *, takes_over: bool = False) -> Published:
        sources = []
        for path, content in contents.items():
            digest = hash_bytes(content)
            file = os.path.join(self.root, "own", digest)
            os.makedirs(os.path.dirname(file), exist_ok=True)
            with open(file, "wb") as stream:
                stream.write(content)
            sources.append(Source(path, len(content), digest, file))
        store, kept = FolderStore(self.feed), os.path.join(self.root, "kept")
        return publish_version(
            store, self.signers, sources, {"pack": "sea"}, kept, self.now, takes_over=takes_over
        )

    def player(self, name: str = "player") -> Player:
        return Player(os.path.join(self.root, name))


class Player:
    """What one player has of a feed."""

    def __init__(self, folder: str) -> None:
        self.folder = folder
        self.known: tuple[KnownVersion, Index] | None = None
        os.makedirs(folder, exist_ok=True)

    def file(self, digest: Digest) -> str:
        return os.path.join(self.folder, digest)

    def believes(self, reader: FeedReader, said: str) -> Believed:
        return believe(reader, os.path.join(self.folder, "trust"), trusting(said))

    def follow(self, reader: FeedReader, said: str, version: int = 0) -> dict[str, bytes]:
        believed = self.believes(reader, said)
        entry = believed.versions[version] if version else believed.newest
        found = bring_index(reader, entry, self.known[0] if self.known else None)
        have = {}
        for name in os.listdir(self.folder):
            have[Digest(name)] = os.path.join(self.folder, name)
        wanted = {each.digest for each in found.listing.files} - have.keys()
        known = self.known[1] if self.known else None
        bring_contents(reader, found, known, have, wanted, self.file)
        self.known = KnownVersion(entry.version, found.text), found.listing
        contents = {}
        for each in found.listing.files:
            with open(self.file(each.digest), "rb") as file:
                contents[each.path] = file.read()
        return contents


class AddressTest(unittest.TestCase):
    def test_an_address_without_a_server_is_refused_before_anything_is_asked(self) -> None:
        for address in ("http://", "https:///feed", "dav://", "davs:///x", "sftp:///x"):
            with self.assertRaises(NoServer, msg=address):
                reader_of(address)
            with self.assertRaises(UserError, msg=address):
                store_of(address)


class FeedTest(unittest.TestCase):
    def setUp(self) -> None:
        self.world = FeedWorld(self.enterContext(tempfile.TemporaryDirectory()))
        dice = random.Random(8)
        self.contents = {f"archives/{n}": dice.randbytes(30_000) for n in range(20)}
        self.contents["catalog/cards/tides.toml"] = b"[mod]\nid = 'tides'\n" * 30
        self.published = self.world.publish(self.contents)
        self.said = self.published.fingerprint

    def reader(self) -> FolderReader:
        return FolderReader(self.world.feed)

    def changed(self, number: int) -> dict[str, bytes]:
        """Return the contents with one archive changed in the middle, and one more."""
        content = self.contents[f"archives/{number}"]
        return {
            **self.contents,
            f"archives/{number}": content[:9000] + b"changed" + content[9000:],
            f"archives/new-{number}": b"new" * 100,
        }

    def test_players_have_what_was_published_and_an_update_is_as_large_as_what_changed(
        self,
    ) -> None:
        player = self.world.player()
        self.assertEqual(player.follow(self.reader(), self.said), self.contents)
        for number in range(6):
            contents = self.changed(number)
            published = self.world.publish(contents)
            self.assertEqual((published.version, published.is_new), (number + 2, True))
            reader = self.reader()
            self.assertEqual(player.follow(reader, self.said), contents)
            self.assertLess(reader.received, 12_000, number)
            self.assertLessEqual(reader.requests, 6)
        again = self.world.publish(contents)
        self.assertEqual((again.is_new, again.version, again.written_bytes), (False, 7, 0))
        self.assertEqual(again.deltas, (3, 4, 5, 6))
        # Somebody new, somebody who was away for long, and one who goes back.
        self.assertEqual(self.world.player("new").follow(self.reader(), self.said), contents)
        late = self.world.player("late")
        late.follow(self.reader(), self.said, version=1)
        reader = self.reader()
        self.assertEqual(late.follow(reader, self.said), contents)
        self.assertEqual(player.follow(self.reader(), self.said, version=2), self.changed(0))

    def test_nothing_new_takes_two_requests_and_few_bytes(self) -> None:
        player = self.world.player()
        player.follow(self.reader(), self.said)
        reader = self.reader()
        player.believes(reader, self.said)
        self.assertLessEqual(reader.requests, 2)
        self.assertLess(reader.received, 1000)

    def test_fingerprints_can_be_said(self) -> None:
        self.assertRegex(self.said, r"^([0-9a-hjkmnp-tv-z]{4}-){4}[0-9a-hjkmnp-tv-z]{4}$")
        self.assertTrue(is_same(self.said.upper().replace("-", " "), self.said))
        self.assertFalse(
            is_same(self.said[:-1] + ("0" if self.said[-1] != "0" else "1"), self.said)
        )
        self.assertNotEqual(sayable_root(b"x"), sayable_root(b"y"))

    def test_keys_are_encrypted_and_not_written_over(self) -> None:
        folder = os.path.join(self.world.root, "keys")
        for name in (keys.CURATOR, keys.TIMESTAMP):
            path = os.path.join(folder, name)
            self.assertEqual(os.stat(path).st_mode & 0o077, 0)
            with open(path, "rb") as file:
                self.assertIn(b"ENCRYPTED", file.read())
            with self.assertRaises(KeyFault):
                load_key(folder, name, lambda _: "another password")
        with self.assertRaises(KeyFault):
            make_keys(folder, PASSWORD)
        with self.assertRaises(KeyFault):
            make_keys(os.path.join(self.world.root, "more"), "short")
        for above, _, names in os.walk(self.world.feed):
            for name in names:
                with open(os.path.join(above, name), "rb") as file:
                    self.assertNotIn(b"PRIVATE", file.read())

    def test_two_curators_cannot_publish_the_same_version(self) -> None:
        before = self.world.player().believes(self.reader(), self.said)
        claimed = os.path.join(self.world.feed, "metadata", "2.snapshot.json")
        with open(claimed, "wb") as file:
            file.write(b"somebody else's")
        with self.assertRaises(AlreadyPublished):
            self.world.publish(self.changed(1))
        self.assertEqual(self.world.player().believes(self.reader(), self.said), before)
        published = self.world.publish(self.changed(1), takes_over=True)
        self.assertEqual(published.version, 3)
        self.assertEqual(self.world.player("n").follow(self.reader(), self.said), self.changed(1))

    def test_a_publication_that_breaks_off_shows_the_version_before(self) -> None:
        class BreakingStore(FolderStore):
            left = 0

            def _path(self, name: str) -> str:
                BreakingStore.left -= 1
                if BreakingStore.left < 0:
                    raise OSError("the disk went away")
                return super()._path(name)

        whole = self.world.feed + "-whole"
        shutil.copytree(self.world.feed, whole)
        for steps in range(9):
            shutil.rmtree(self.world.feed)
            shutil.copytree(whole, self.world.feed)
            BreakingStore.left = steps
            with unittest.mock.patch(f"{__name__}.FolderStore", BreakingStore):
                try:
                    self.world.publish(self.changed(1))
                except OSError:
                    player = self.world.player(f"player-{steps}")
                    self.assertEqual(player.follow(self.reader(), self.said), self.contents)
                else:
                    self.assertEqual(
                        self.world.player(f"p-{steps}").follow(self.reader(), self.said),
                        self.changed(1),
                    )
                    return
        self.fail("it never came to its end")

    def test_another_curators_feed_is_not_written_to(self) -> None:
        other = os.path.join(self.world.root, "other")
        make_keys(other, PASSWORD)
        self.world.signers = FeedWorld.load(other)
        with self.assertRaises(KeyFault):
            self.world.publish(self.changed(1))

    def test_other_keys_sign_and_players_notice_nothing(self) -> None:
        player = self.world.player()
        player.follow(self.reader(), self.said)
        other = os.path.join(self.world.root, "other")
        make_keys(other, PASSWORD)
        old, new = self.world.signers, FeedWorld.load(other)
        kept = os.path.join(self.world.root, "kept")
        store = FolderStore(self.world.feed)
        self.assertEqual(rotate(store, old.curator, new, kept, self.world.now), 2)
        self.assertEqual(player.follow(self.reader(), self.said), self.contents)
        with self.assertRaises(KeyFault):
            self.world.publish(self.changed(1))
        self.world.signers = new
        self.assertEqual(self.world.publish(self.changed(1)).fingerprint, self.said)
        for each in (player, self.world.player("new")):
            self.assertEqual(each.follow(self.reader(), self.said), self.changed(1))
        # What the old keys sign counts no more, however new it seems.
        snapshot = metadata.make_snapshot(99, b"{}", old.curator, self.world.now())
        FolderStore(self.world.feed).put("metadata/99.snapshot.json", snapshot)
        content = metadata.make_timestamp(99, 99, snapshot, old.timestamp, self.world.now())
        store.replace(metadata.TIMESTAMP_FILE, content)
        with self.assertRaises(NotTrusted):
            player.follow(self.reader(), self.said)

    # What a hostile server may do. Each is tried on a player who knows the feed, and on a new one.

    def refused(
        self, harm: Callable[[], object], kind: type[FeedFault] = NotTrusted, said: str = ""
    ) -> None:
        known = self.world.player("known")
        known.follow(self.reader(), self.said)
        before = sorted(os.listdir(known.folder))
        self.world.publish(self.changed(1))
        harm()
        for player in (known, self.world.player("new")):
            with self.subTest(player=player.folder), self.assertRaises(kind) as raised:
                player.follow(self.reader(), self.said)
            self.assertIn(said, str(raised.exception))
        self.assertEqual(sorted(os.listdir(known.folder)), before)

    def path(self, *parts: str) -> str:
        return os.path.join(self.world.feed, *parts)

    def rewrite(self, name: str, change: Callable[[Any], None]) -> None:
        with open(self.path("metadata", name), "rb") as file:
            document = json.load(file)
        change(document)
        with open(self.path("metadata", name), "w", encoding="utf-8") as out:
            json.dump(document, out)

    def test_another_fingerprint(self) -> None:
        with self.assertRaises(NotTrusted):
            self.world.player().follow(self.reader(), "0000-0000-0000-0000-0000")

    def test_something_older_than_was_seen(self) -> None:
        player = self.world.player()
        old = self.world.feed + "-old"
        shutil.copytree(self.world.feed, old)
        self.world.publish(self.changed(1))
        player.follow(self.reader(), self.said)
        with self.assertRaises(NotTrusted) as raised:
            player.follow(FolderReader(old), self.said)
        self.assertIn("older", raised.exception.summary)
        self.assertEqual(
            self.world.player("new").follow(FolderReader(old), self.said), self.contents
        )

    def test_frozen(self) -> None:
        player = self.world.player()
        player.follow(self.reader(), self.said)
        with unittest.mock.patch("tuf.ngclient._internal.trusted_metadata_set.datetime") as clock:
            clock.datetime.now.return_value = metadata.now() + timedelta(days=31)
            for each in (player, self.world.player("new")):
                with self.assertRaises(NotTrusted) as raised:
                    each.follow(self.reader(), self.said)
                self.assertIn("expired", raised.exception.summary)
        self.world.days = 20
        renew(FolderStore(self.world.feed), self.world.signers.timestamp, self.world.now)
        with unittest.mock.patch("tuf.ngclient._internal.trusted_metadata_set.datetime") as clock:
            clock.datetime.now.return_value = metadata.now() + timedelta(days=31)
            self.assertEqual(player.follow(self.reader(), self.said), self.contents)

    def test_mixed_from_two_versions(self) -> None:
        first = self.path("metadata", "1.snapshot.json")
        self.refused(lambda: shutil.copyfile(first, self.path("metadata", "2.snapshot.json")))

    def test_signed_by_another_key(self) -> None:
        other = os.path.join(self.world.root, "other")
        make_keys(other, PASSWORD)
        strange = FeedWorld.load(other)

        def harm() -> None:
            with open(self.path("metadata", "2.snapshot.json"), "rb") as file:
                snapshot = file.read()
            content = metadata.make_timestamp(9, 2, snapshot, strange.timestamp, self.world.now())
            FolderStore(self.world.feed).replace(metadata.TIMESTAMP_FILE, content)

        self.refused(harm, said="keys")

    def test_not_signed_at_all(self) -> None:
        self.refused(lambda: self.rewrite("timestamp.json", lambda d: d["signatures"].clear()))

    def test_a_version_added_by_the_server(self) -> None:
        def add(document: Any) -> None:
            document["signed"]["targets"]["9.idx.zst"] = document["signed"]["targets"]["2.idx.zst"]

        self.refused(lambda: self.rewrite("2.targets.json", add))

    def write(self, name: str, content: bytes) -> None:
        with open(self.path("metadata", name), "wb") as file:
            file.write(content)

    def test_junk(self) -> None:
        self.refused(lambda: self.write("timestamp.json", b"no json"))

    def test_what_is_endless(self) -> None:
        self.refused(lambda: self.write("timestamp.json", b" " * (1 << 20)))

    def test_objects_cut_off_swapped_or_with_a_wrong_byte(self) -> None:
        for number, (folder, harm) in enumerate(
            (folder, harm)
            for folder in ("index", "packs")
            for harm in (_cut, _flip, _empty, os.unlink)
        ):
            with self.subTest(folder=folder, harm=harm.__name__):
                self.world.publish(self.changed(number))
                copy = f"{self.world.feed}-{number}"
                shutil.copytree(self.world.feed, copy)
                for name in os.listdir(os.path.join(copy, folder)):
                    harm(os.path.join(copy, folder, name))
                player = self.world.player(f"new-{number}")
                with self.assertRaises(FeedFault):
                    player.follow(FolderReader(copy), self.said)
                self.assertEqual(player.follow(self.reader(), self.said), self.changed(number))

    def test_a_delta_that_is_damaged_or_gone_costs_only_bytes(self) -> None:
        for number, harm in enumerate((_cut, _flip, _empty, os.unlink)):
            with self.subTest(harm=harm.__name__):
                player = self.world.player(f"player-{number}")
                player.follow(self.reader(), self.said)
                self.world.publish(self.changed(number))
                for name in os.listdir(self.path("deltas")):
                    harm(self.path("deltas", name))
                self.assertEqual(player.follow(self.reader(), self.said), self.changed(number))

    def test_an_old_content_that_is_damaged_here_costs_only_bytes(self) -> None:
        player = self.world.player()
        player.follow(self.reader(), self.said)
        self.world.publish(self.changed(1))
        _flip(player.file(hash_bytes(self.contents["archives/1"])))
        self.assertEqual(player.follow(self.reader(), self.said), self.changed(1))


def _cut(path: str) -> None:
    os.truncate(path, os.path.getsize(path) // 2)


def _empty(path: str) -> None:
    os.truncate(path, 0)


def _flip(path: str) -> None:
    with open(path, "r+b") as file:
        file.seek(os.path.getsize(path) // 2)
        byte = file.read(1)
        file.seek(-1, os.SEEK_CUR)
        file.write(bytes([byte[0] ^ 1]))


class ServerTest(unittest.TestCase):
    """A feed behind a web server, which may know no ranges, drip, or redirect in a circle."""

    def serve(self, answer: Callable[[http.server.BaseHTTPRequestHandler], None]) -> str:
        class Handler(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                with unittest.mock.patch("builtins.print"):
                    answer(self)

            def log_message(self, *_: object) -> None:
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return f"http://127.0.0.1:{server.server_port}"

    def test_a_server_without_ranges(self) -> None:
        content = bytes(range(256)) * 100

        def answer(request: http.server.BaseHTTPRequestHandler) -> None:
            request.send_response(200)
            request.send_header("Content-Length", str(len(content)))
            request.end_headers()
            request.wfile.write(content)

        reader = HttpReader(self.serve(answer))
        self.assertEqual(reader.read("x", 1 << 20), content)
        self.assertEqual(reader.read("x", 1 << 20, 300, 20), content[300:320])
        with self.assertRaises(FeedFault):
            reader.read("x", 1000)
        with self.assertRaises(FeedFault):
            reader.read("x", 1 << 20, len(content) - 5, 20)

    def test_a_server_that_drips_or_breaks_off_or_turns_in_a_circle(self) -> None:
        def drip(request: http.server.BaseHTTPRequestHandler) -> None:
            request.send_response(200)
            request.end_headers()
            for _ in range(60):
                request.wfile.write(b".")
                request.wfile.flush()
                time.sleep(0.05)

        def circle(request: http.server.BaseHTTPRequestHandler) -> None:
            request.send_response(302)
            request.send_header("Location", f"/again{len(request.path)}")
            request.end_headers()

        def short(request: http.server.BaseHTTPRequestHandler) -> None:
            request.send_response(200)
            request.send_header("Content-Length", "100000")
            request.end_headers()
            request.wfile.write(b"short")

        def refuse(request: http.server.BaseHTTPRequestHandler) -> None:
            request.send_error(500)

        for answer in (drip, circle, short, refuse):
            with self.subTest(answer=answer.__name__), self.assertRaises(FeedUnreachable):
                HttpReader(self.serve(answer), patience=0.4).read("x", 1 << 20)
        with self.assertRaises(FeedUnreachable):
            HttpReader("http://127.0.0.1:9", patience=0.4).read("x", 1 << 20)

        def nothing(request: http.server.BaseHTTPRequestHandler) -> None:
            request.send_error(404)

        with self.assertRaises(NotInFeed):
            HttpReader(self.serve(nothing)).read("x", 1 << 20)


if __name__ == "__main__":
    unittest.main()
