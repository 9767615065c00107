"""A feed on a server that takes files by WebDAV: against one on this machine."""

from __future__ import annotations

import os
import tempfile
import threading
import unittest
from unittest import mock

from rellum.core.feed.addresses import reader_of
from rellum.core.feed.metadata import TIMESTAMP_FILE, metadata_name
from rellum.core.feed.reading import FeedUnreachable, NotInFeed
from rellum.core.feed.storing import AlreadyPublished
from rellum.core.feed.webdav_store import WebDavStore
from tests.core.feed.test_feed import FeedWorld

try:
    from cheroot.wsgi import Server
    from wsgidav.wsgidav_app import WsgiDAVApp
except ImportError as error:
    raise unittest.SkipTest(f"no server that takes files by WebDAV: {error}") from error


class WebDavTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.served = os.path.join(folder, "served")
        os.mkdir(self.served)
        app = WsgiDAVApp(
            {
                "provider_mapping": {"/": self.served},
                "simple_dc": {"user_mapping": {"*": {"curator": {"password": "secret"}}}},
                "logging": {"enable": False},
                "verbose": 0,
            }
        )
        server = Server(("127.0.0.1", 0), app, numthreads=4)
        server.prepare()
        serving = threading.Thread(target=server.serve, daemon=True)
        serving.start()
        self.addCleanup(serving.join)
        self.addCleanup(server.stop)
        self.address = f"dav://127.0.0.1:{server.bind_addr[1]}/our feeds/north"
        netrc = os.path.join(folder, "netrc")
        with open(netrc, "w", encoding="utf-8") as file:
            file.write("machine 127.0.0.1 login curator password secret\n")
        self.enterContext(mock.patch.dict(os.environ, {"NETRC": netrc}))
        self.world = FeedWorld(folder)
        self.enterContext(
            mock.patch("tests.core.feed.test_feed.FolderStore", lambda _: WebDavStore(self.address))
        )

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
        WebDavStore(self.address).claim(metadata_name("snapshot", 2), b"another curator's")
        with self.assertRaises(AlreadyPublished):
            self.world.publish({"a": b"b"})
        mine, theirs = WebDavStore(self.address), WebDavStore(self.address)
        for each in (mine, theirs):
            each.reader().read(TIMESTAMP_FILE, 1 << 20)
        theirs.replace(TIMESTAMP_FILE, b"theirs, which is longer than mine")
        with self.assertRaises(AlreadyPublished):
            mine.replace(TIMESTAMP_FILE, b"mine")

    def test_a_file_goes_into_folders_that_are_made(self) -> None:
        file = os.path.join(self.served, "..", "large")
        with open(file, "wb") as stream:
            stream.write(b"0123456789" * 100_000)
        store = WebDavStore(self.address)
        store.put_file("a b/c/large", file)
        self.assertEqual(store.reader().read("a b/c/large", 100, 13, 4), b"3456")
        self.assertEqual(os.path.getsize(f"{self.served}/our feeds/north/a b/c/large"), 1_000_000)

    def test_what_is_not_there_or_refuses(self) -> None:
        with self.assertRaises(NotInFeed):
            reader_of(self.address).read("metadata/1.root.json", 1000)
        with (
            mock.patch.dict(os.environ, {"NETRC": os.devnull}),
            self.assertRaises(FeedUnreachable) as refused,
        ):
            WebDavStore(self.address).put("a", b"a")
        self.assertIn("401", refused.exception.summary)
        self.assertIn(".netrc", refused.exception.hint)
        with self.assertRaises(FeedUnreachable):
            WebDavStore("dav://127.0.0.1:9/feed").put("a", b"a")


if __name__ == "__main__":
    unittest.main()
