"""A feed in an object store: against a server that speaks S3, on this machine."""

from __future__ import annotations

import os
import unittest
from unittest import mock

from rellum.core.feed.addresses import reader_of
from rellum.core.feed.feed_index import FeedFault
from rellum.core.feed.metadata import TIMESTAMP_FILE
from rellum.core.feed.reading import FeedUnreachable
from rellum.core.feed.storing import AlreadyPublished
from tests.core.feed.store_contract import StoreContract

try:
    import boto3
    from moto.server import ThreadedMotoServer

    from rellum.core.feed.s3_store import S3Store
except ImportError as error:
    raise unittest.SkipTest(f"no server that speaks S3: {error}") from error


class S3Test(StoreContract, unittest.TestCase):
    def setUp(self) -> None:
        server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
        server.start()
        self.addCleanup(server.stop)
        host, port = server.get_host_and_port()
        bucket = (
            f"sea-{abs(hash(self.id())):x}"  # the server keeps its buckets while this process lives
        )
        access = {
            "AWS_ENDPOINT": f"http://{host}:{port}",
            "AWS_ACCESS_KEY_ID": "curator",
            "AWS_SECRET_ACCESS_KEY": "secret",
            "AWS_REGION": "us-east-1",
            "AWS_ALLOW_HTTP": "true",
        }
        self.enterContext(mock.patch.dict(os.environ, access))
        boto3.client("s3", endpoint_url=access["AWS_ENDPOINT"]).create_bucket(Bucket=bucket)
        self.begin(f"s3://{bucket}/feeds/north")

    def test_the_newest_word_is_written_over_only_by_who_read_it(self) -> None:
        self.world.publish({"a": b"a"})
        mine, theirs = S3Store(self.address), S3Store(self.address)
        for each in (mine, theirs):
            each.reader().read(TIMESTAMP_FILE, 1 << 20)
        theirs.replace(TIMESTAMP_FILE, b"theirs")
        with self.assertRaises(AlreadyPublished):
            mine.replace(TIMESTAMP_FILE, b"mine")

    def test_what_cannot_be_reached(self) -> None:
        with self.assertRaises(FeedFault):
            reader_of("s3://")
        os.environ["AWS_ENDPOINT"] = "http://127.0.0.1:9"
        with self.assertRaises(FeedUnreachable):
            reader_of(self.address).read("x", 1000)


if __name__ == "__main__":
    unittest.main()
