"""A feed on a server that takes files by SFTP: against one on this machine."""

from __future__ import annotations

import asyncio
import os
import tempfile
import threading
import unittest
from typing import Any
from unittest import mock

from rellum.core.feed.feed_keys import NoFeedPackages
from rellum.core.feed.reading import FeedUnreachable
from rellum.core.feed.sftp_store import SftpStore
from tests.core.feed.store_contract import StoreContract

try:
    import asyncssh
    import paramiko
except ImportError as error:
    raise unittest.SkipTest(f"no server that takes files by SFTP: {error}") from error


class Letting(asyncssh.SSHServer):
    """Lets in whoever knows the password."""

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == ("curator", "secret")


class SftpTest(StoreContract, unittest.TestCase):
    def setUp(self) -> None:
        self.home = self.enterContext(tempfile.TemporaryDirectory())
        self.served = os.path.join(self.home, "served")
        os.makedirs(os.path.join(self.home, ".ssh"))
        os.mkdir(self.served)
        self.enterContext(mock.patch.dict(os.environ, {"HOME": self.home}))
        for name in ("NETRC", "SSH_AUTH_SOCK"):
            os.environ.pop(name, None)
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.loop = asyncio.new_event_loop()
        thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        thread.start()
        self.server = self.run_there(self.listen())
        self.addCleanup(self.loop.close)
        self.addCleanup(thread.join)
        self.addCleanup(lambda: self.loop.call_soon_threadsafe(self.loop.stop))
        self.addCleanup(lambda: self.run_there(self.stop()))
        self.port = self.server.get_port()
        self.write(".netrc", "machine 127.0.0.1 login curator password secret\n")
        self.know(self.key)
        self.begin(f"sftp://127.0.0.1:{self.port}/our feeds/north")

    def run_there(self, what: Any) -> Any:
        return asyncio.run_coroutine_threadsafe(what, self.loop).result()

    async def listen(self) -> Any:
        served = self.served.encode()
        return await asyncssh.listen(
            "127.0.0.1",
            0,
            server_factory=Letting,
            server_host_keys=[self.key],
            sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=served),
        )

    async def stop(self) -> None:
        self.server.close()
        others = asyncio.all_tasks() - {asyncio.current_task()}
        for each in others:
            each.cancel()
        await asyncio.gather(*others, return_exceptions=True)

    def write(self, name: str, text: str) -> None:
        with open(os.path.join(self.home, name), "w", encoding="utf-8") as file:
            file.write(text)

    def know(self, key: Any) -> None:
        public = key.export_public_key("openssh").decode().strip()
        self.write(".ssh/known_hosts", f"[127.0.0.1]:{self.port} {public}\n")

    def test_only_finished_objects_stay(self) -> None:
        self.world.publish({"a": b"a"})
        self.world.publish({"a": b"b"})
        left = [name for _, _, names in os.walk(self.served) for name in names]
        endings = {name.rpartition(".")[2] for name in left}
        self.assertLessEqual(endings, {"json", "pack", "delta", "zst"})

    def test_who_is_not_let_in(self) -> None:
        self.write(".netrc", "machine 127.0.0.1 login curator password other\n")
        with self.assertRaisesRegex(FeedUnreachable, "does not let you in"):
            SftpStore(self.address).put("a", b"a")
        self.know(asyncssh.generate_private_key("ssh-ed25519"))
        with self.assertRaisesRegex(FeedUnreachable, "another key"):
            SftpStore(self.address).put("a", b"a")
        self.write(".ssh/known_hosts", "")
        with self.assertRaisesRegex(FeedUnreachable, "not found in known_hosts") as refused:
            SftpStore(self.address).put("a", b"a")
        self.assertIn("Connect to it once", refused.exception.hint)
        with self.assertRaises(FeedUnreachable):
            SftpStore("sftp://127.0.0.1:9/feed").put("a", b"a")
        with (
            mock.patch.dict("sys.modules", {"paramiko": None}),
            self.assertRaisesRegex(NoFeedPackages, "SFTP needs"),
        ):
            SftpStore(self.address)
        self.assertTrue(paramiko)

    def test_the_users_own_names_for_servers_count(self) -> None:
        self.write(
            ".ssh/config",
            f"Host our-server\n  HostName 127.0.0.1\n  Port {self.port}\n  User curator\n",
        )
        self.write(".netrc", "machine our-server login nobody password secret\n")
        store = SftpStore("sftp://our-server/feed")
        store.put("a", b"a")
        self.assertEqual(os.listdir(os.path.join(self.served, "feed")), ["a"])


if __name__ == "__main__":
    unittest.main()
