"""A feed on a server that takes files by WebDAV: against one on this machine."""

from __future__ import annotations

import os
import tempfile
import threading
import unittest
from unittest import mock

from rellum.core.feed.metadata import TIMESTAMP_FILE
from rellum.core.feed.reading import FeedUnreachable
from rellum.core.feed.storing import AlreadyPublished
from rellum.core.feed.webdav_store import WebDavStore
from tests.core.feed.store_contract import StoreContract

try:
    from cheroot.wsgi import Server
    from wsgidav.wsgidav_app import WsgiDAVApp
except ImportError as error:
    raise unittest.SkipTest(f"no server that takes files by WebDAV: {error}") from error


class WebDavTest(StoreContract, unittest.TestCase):
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
        self.begin(f"dav://127.0.0.1:{server.bind_addr[1]}/our feeds/north")
        netrc = os.path.join(folder, "netrc")
        with open(netrc, "w", encoding="utf-8") as file:
            file.write("machine 127.0.0.1 login curator password secret\n")
        self.enterContext(mock.patch.dict(os.environ, {"NETRC": netrc}))

    def test_the_newest_word_is_written_over_only_by_who_read_it(self) -> None:
        self.world.publish({"a": b"a"})
        mine, theirs = WebDavStore(self.address), WebDavStore(self.address)
        for each in (mine, theirs):
            each.reader().read(TIMESTAMP_FILE, 1 << 20)
        theirs.replace(TIMESTAMP_FILE, b"theirs, which is longer than mine")
        with self.assertRaises(AlreadyPublished):
            mine.replace(TIMESTAMP_FILE, b"mine")

    def test_who_is_not_let_in(self) -> None:
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
