"""What holds of every store that a feed can be written to, wherever it is."""

from __future__ import annotations

import os
import tempfile
from typing import TYPE_CHECKING
from unittest import TestCase, mock

from rellum.core.feed.addresses import reader_of, store_of
from rellum.core.feed.metadata import metadata_name
from rellum.core.feed.reading import NotInFeed
from rellum.core.feed.storing import AlreadyPublished
from tests.core.feed.test_feed import FeedWorld

if TYPE_CHECKING:
    Base = TestCase
else:
    Base = object  # else the tests below would run by themselves, too


class StoreContract(Base):
    """Mixed into the tests of a store, whose ``setUp`` calls ``begin`` with the feed's address."""

    def begin(self, address: str) -> None:
        self.address = address
        self.world = FeedWorld(self.enterContext(tempfile.TemporaryDirectory()))
        here = mock.patch("tests.core.feed.test_feed.FolderStore", lambda _: store_of(address))
        self.enterContext(here)

    def test_published_followed_and_updated(self) -> None:
        contents = {f"archives/{n}": bytes([n]) * 30_000 + os.urandom(3000) for n in range(9)}
        said = self.world.publish(contents).fingerprint
        player = self.world.player()
        self.assertEqual(player.follow(reader_of(self.address), said), contents)
        contents["archives/3"] += b"more"
        self.assertEqual(self.world.publish(contents).deltas, (1,))
        reader = reader_of(self.address)
        self.assertEqual(player.follow(reader, said), contents)
        self.assertLess(reader.received, 9000)
        self.assertFalse(self.world.publish(contents).is_new)

    def test_of_two_curators_one_publishes(self) -> None:
        self.world.publish({"a": b"a"})
        name = metadata_name("snapshot", 2)
        store_of(self.address).claim(name, b"another curator's")
        with self.assertRaises(AlreadyPublished):
            self.world.publish({"a": b"b"})
        self.assertEqual(reader_of(self.address).read(name, 100), b"another curator's")

    def test_a_file_goes_into_folders_that_are_made(self) -> None:
        file = os.path.join(self.world.root, "large")
        with open(file, "wb") as stream:
            stream.write(b"0123456789" * 100_000)
        store = store_of(self.address)
        for _ in range(2):
            store.put_file("a b/c/large", file)
        self.assertEqual(store.reader().read("a b/c/large", 100, 13, 4), b"3456")
        self.assertEqual(len(store.reader().read("a b/c/large", 1 << 20)), 1_000_000)

    def test_what_is_not_there(self) -> None:
        with self.assertRaises(NotInFeed):
            reader_of(self.address).read("metadata/1.root.json", 1000)
