"""A feed from a swarm: other players on this machine, a tracker, a web seed, a server that lacks packs."""

from __future__ import annotations

import functools
import os
import random
import shutil
import tempfile
import time
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from importlib.util import find_spec
from unittest import mock

from benchmarks.file_server import Handler
from benchmarks.swarm_others import new_tracker, seed
from rellum.core.feed import publishing
from rellum.core.feed.bringing import bring_contents, bring_index
from rellum.core.feed.feed_index import FeedFault
from rellum.core.feed.metadata import TorrentOffer
from rellum.core.feed.reading import FeedReader, HttpReader, Range
from rellum.core.feed.swarm import SwarmReader, swarmed
from rellum.core.feed.torrents import TorrentPlace, make_torrent, read_torrent
from rellum.core.fetching.swarm_session import NoTorrent, SwarmSettings
from tests.core.feed.test_feed import FeedWorld
from tests.serving import serve

if find_spec("libtorrent") is None:
    raise unittest.SkipTest("libtorrent is not installed: no torrents")

HERE = SwarmSettings(least=0, patience=4, meets_strangers=False)


class SwarmTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())
        self.world = FeedWorld(self.folder)
        dice = random.Random(4)
        self.contents = {f"archives/{n}": dice.randbytes(700_000) for n in range(4)}
        served = os.path.join(self.folder, "served")
        os.mkdir(served)
        self.world.feed = os.path.join(served, "our north")
        self.whole = serve(self, functools.partial(Handler, directory=served))
        hiding = type("Hiding", (Handler,), {"hidden": "/our%20north/packs"})
        self.without_packs = serve(self, functools.partial(hiding, directory=served))
        self.tracker = serve(self, new_tracker()) + "/announce"

    def publish(self, web: str, trackers: tuple[str, ...] = ()) -> None:
        place = TorrentPlace(f"{web}/our%20north", trackers)
        make: Callable[..., bytes] = functools.partial(make_torrent, self.world.feed, place=place)
        whole = functools.partial(publishing.publish_version, torrent_of=make)
        with mock.patch("tests.core.feed.test_feed.publish_version", whole):
            self.said = self.world.publish(self.contents).fingerprint

    def bring(
        self, name: str, web: str, settings: SwarmSettings = HERE
    ) -> tuple[dict[str, bytes], FeedReader]:
        """Bring the newest version as a new player; return its contents, and what read them."""
        player = self.world.player(name)
        reader = HttpReader(f"{web}/our%20north", patience=3)
        entry = player.believes(reader, self.said).newest
        found = bring_index(reader, entry, None)
        work = os.path.join(self.folder, f"work of {name}")
        with swarmed(reader, entry, found.listing, work, settings) as source:
            wanted = {each.digest for each in found.listing.files}
            bring_contents(source, found, None, {}, wanted, player.file)
        contents = {}
        for each in found.listing.files:
            with open(player.file(each.digest), "rb") as file:
                contents[each.path] = file.read()
        return contents, source

    def torrent(self) -> bytes:
        folder = os.path.join(self.world.feed, "torrents")
        [name] = os.listdir(folder)
        with open(os.path.join(folder, name), "rb") as file:
            return file.read()

    def test_the_web_seed_alone_gives_everything(self) -> None:
        self.publish(self.whole)
        contents, source = self.bring("player", self.without_packs)
        self.assertEqual(contents, self.contents)
        self.assertGreater(source.from_swarm, 2_700_000)
        self.assertGreater(source.received, source.from_swarm)
        self.assertLess(source.requests, 9)  # metadata, index and torrent

    def test_other_players_give_what_no_server_has(self) -> None:
        self.publish(self.without_packs, (self.tracker,))
        other = seed(self.torrent(), os.path.dirname(self.world.feed))
        with ThreadPoolExecutor(3) as players:
            came = list(
                players.map(lambda n: self.bring(f"player {n}", self.without_packs), range(3))
            )
        del other
        for contents, source in came:
            self.assertEqual(contents, self.contents)
            self.assertGreater(source.from_swarm, 2_700_000)

    def test_where_nothing_comes_the_feeds_server_is_asked(self) -> None:
        self.publish(self.without_packs)
        began = time.monotonic()
        settings = HERE._replace(patience=1)
        contents, source = self.bring("player", self.whole, settings)
        self.assertEqual(contents, self.contents)
        self.assertEqual(source.from_swarm, 0)
        self.assertLess(time.monotonic() - began, 30)

    def test_what_is_small_and_what_has_no_torrent_comes_by_plain_requests(self) -> None:
        self.publish(self.whole)
        contents, source = self.bring("first", self.whole, SwarmSettings(least=1 << 30))
        self.assertEqual((contents, source.from_swarm), (self.contents, 0))
        shutil.rmtree(os.path.join(self.world.feed, "torrents"))
        contents, source = self.bring("second", self.whole)
        self.assertEqual((contents, source.from_swarm), (self.contents, 0))

    def test_a_seed_with_other_bytes_is_noticed(self) -> None:
        self.publish(self.whole)
        elsewhere = os.path.join(self.folder, "honest")
        shutil.copytree(os.path.dirname(self.world.feed), elsewhere)
        honest = serve(self, functools.partial(Handler, directory=elsewhere))
        packs = os.path.join(self.world.feed, "packs")
        for name in os.listdir(packs):
            with open(os.path.join(packs, name), "r+b") as file:
                file.seek(100_000)
                file.write(b"something else")
        contents, _ = self.bring("player", honest)  # the web seed is the other one
        self.assertEqual(contents, self.contents)

    def test_another_torrent_than_was_signed_is_refused(self) -> None:
        self.publish(self.whole)
        folder = os.path.join(self.world.feed, "torrents")
        [name] = os.listdir(folder)
        with open(os.path.join(folder, name), "r+b") as file:
            file.write(b"d9:")
        with self.assertRaisesRegex(FeedFault, "not what its curator signed"):
            self.bring("player", self.whole)

    def test_a_torrent_with_anything_else_than_the_versions_objects_is_refused(self) -> None:
        other = os.path.join(self.folder, "other")
        os.mkdir(other)
        for name, content in (("passwd", b"x" * 70_000), ("packs.pack", b"y" * 70_000)):
            with open(os.path.join(other, name), "wb") as file:
                file.write(content)
        place = TorrentPlace("http://127.0.0.1:9/north")
        made = make_torrent(other, ["passwd", "packs.pack"], place)
        sizes = {"passwd": 70_000, "packs.pack": 70_000}
        self.assertEqual(set(read_torrent(made, sizes).parts), set(sizes))
        for allowed in ({}, {"passwd": 70_000}, {**sizes, "passwd": 69_999}):
            with self.assertRaisesRegex(FeedFault, "something else than it may"):
                read_torrent(made, allowed)
        for junk in (b"", b"d", b"l" * 4000, made[:-100], b"d4:infode"):
            with self.assertRaisesRegex(FeedFault, "cannot be read"):
                read_torrent(junk, sizes)
        offer = TorrentOffer("0" * 64, 5)
        self.assertEqual(offer.file, f"torrents/{'0' * 64}.torrent")

    def test_the_same_objects_give_the_same_torrent_and_no_name_no_torrent(self) -> None:
        self.publish(self.whole)
        packs = [f"packs/{each}" for each in os.listdir(os.path.join(self.world.feed, "packs"))]
        place = TorrentPlace("https://feeds.example/our%20north/", ("udp://tracker.example:1",))
        first, second = (make_torrent(self.world.feed, packs, place) for _ in range(2))
        self.assertEqual(first, second)
        self.assertEqual((place.name, place.above), ("our north", "https://feeds.example/"))
        for wrong in ("north", "https://feeds.example", "https://feeds.example/", "ftp://a/b"):
            with self.assertRaises(NoTorrent, msg=wrong):
                TorrentPlace(wrong).check()
        with self.assertRaises(NoTorrent):
            TorrentPlace("https://feeds.example/a", ("tracker",)).check()

    def test_a_range_and_what_the_torrent_lacks(self) -> None:
        self.publish(self.whole)
        inner = HttpReader(f"{self.whole}/our%20north")
        content = self.torrent()
        [pack] = os.listdir(os.path.join(self.world.feed, "packs"))
        name = f"packs/{pack}"
        with open(os.path.join(self.world.feed, name), "rb") as file:
            whole = file.read()
        [torrent_name] = os.listdir(os.path.join(self.world.feed, "torrents"))
        offer = TorrentOffer(torrent_name.removesuffix(".torrent"), len(content))
        work = os.path.join(self.folder, "work")
        reader = SwarmReader(inner, offer, {name: len(whole)}, work, HERE)
        self.addCleanup(reader.close)
        reader.will_read([Range(name, 65_530, 200_000)])
        part = reader.read(name, 1 << 22, 65_530, 200_000)
        self.assertEqual(part, whole[65_530:265_530])
        self.assertEqual(reader.read(name, 1 << 22), whole)
        self.assertEqual(reader.from_swarm, 200_000 + len(whole))
        timestamp = reader.read("metadata/timestamp.json", 1 << 20)
        self.assertIn(b"timestamp", timestamp)
        self.assertEqual(reader.from_swarm, 200_000 + len(whole))
