"""A feed in an object store: against a server that speaks S3, on this machine."""

from __future__ import annotations

import os
import tempfile
import unittest
from unittest import mock

from rellum.core.feed.addresses import reader_of
from rellum.core.feed.feed_index import FeedFault
from rellum.core.feed.metadata import TIMESTAMP_FILE, metadata_name
from rellum.core.feed.reading import FeedUnreachable, NotInFeed
from rellum.core.feed.storing import AlreadyPublished
from tests.core.feed.test_feed import FeedWorld

try:
    import boto3
    from moto.server import ThreadedMotoServer

    from rellum.core.feed.s3_store import S3Store
except ImportError as error:
    raise unittest.SkipTest(f"no server that speaks S3: {error}") from error


class S3Test(unittest.TestCase):
    def setUp(self) -> None:
        server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
        server.start()
        self.addCleanup(server.stop)
        host, port = server.get_host_and_port()
        bucket = (
            f"sea-{abs(hash(self.id())):x}"  # the server keeps its buckets while this process lives
        )
        self.address = f"s3://{bucket}/feeds/north"
        access = {
            "AWS_ENDPOINT": f"http://{host}:{port}",
            "AWS_ACCESS_KEY_ID": "curator",
            "AWS_SECRET_ACCESS_KEY": "secret",
            "AWS_REGION": "us-east-1",
            "AWS_ALLOW_HTTP": "true",
        }
        self.enterContext(mock.patch.dict(os.environ, access))
        boto3.client("s3", endpoint_url=access["AWS_ENDPOINT"]).create_bucket(Bucket=bucket)
        self.world = FeedWorld(self.enterContext(tempfile.TemporaryDirectory()))
        stores = mock.patch(
            "tests.core.feed.test_feed.FolderStore", lambda _: S3Store(self.address)
        )
        self.enterContext(stores)

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
        store = S3Store(self.address)
        store.claim(metadata_name("snapshot", 2), b"another curator's")
        with self.assertRaises(AlreadyPublished):
            self.world.publish({"a": b"b"})
        mine, theirs = S3Store(self.address), S3Store(self.address)
        for each in (mine, theirs):
            each.reader().read(TIMESTAMP_FILE, 1 << 20)
        theirs.replace(TIMESTAMP_FILE, b"theirs")
        with self.assertRaises(AlreadyPublished):
            mine.replace(TIMESTAMP_FILE, b"mine")

    def test_what_is_not_there_or_cannot_be_reached(self) -> None:
        with self.assertRaises(NotInFeed):
            reader_of(self.address).read("metadata/1.root.json", 1000)
        with self.assertRaises(FeedFault):
            reader_of("s3://")
        store = S3Store(self.address)
        store.put("long", b"0123456789")
        self.assertEqual(store.reader().read("long", 100, 3, 4), b"3456")
        os.environ["AWS_ENDPOINT"] = "http://127.0.0.1:9"
        with self.assertRaises(FeedUnreachable):
            reader_of(self.address).read("x", 1000)


if __name__ == "__main__":
    unittest.main()
