"""The others of a swarm on this machine: a tracker, and somebody who has all of a torrent."""

from __future__ import annotations

import http.server
from contextlib import suppress
from typing import Any
from urllib.parse import parse_qs, urlsplit


class Tracker(http.server.BaseHTTPRequestHandler):
    """Tells each player of all others (BEP 3, 23). ``players`` are known by the torrent's hash."""

    players: dict[str, set[bytes]]

    def do_GET(self) -> None:
        """Note who asks, and tell of all."""
        query = parse_qs(urlsplit(self.path).query, encoding="latin-1")
        swarm = self.players.setdefault(query["info_hash"][0], set())
        swarm.add(bytes([127, 0, 0, 1]) + int(query["port"][0]).to_bytes(2, "big"))
        peers = b"".join(sorted(swarm))
        with suppress(ConnectionError):
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b"d8:intervali2e5:peers%d:%be" % (len(peers), peers))

    def log_message(self, *_: object) -> None:
        """Say nothing."""


def new_tracker() -> type[Tracker]:
    """Return a handler for a server of its own."""
    return type("NewTracker", (Tracker,), {"players": {}})


def seed(torrent: bytes, folder: str, upload: int = 0) -> Any:
    """Let somebody who has all of it hand it on, at most so many bytes a second; return the session."""
    import libtorrent as lt

    session = lt.session(
        {
            "listen_interfaces": "127.0.0.1:0",
            "enable_dht": False,
            "enable_lsd": False,
            "enable_upnp": False,
            "enable_natpmp": False,
            "allow_multiple_connections_per_ip": True,
            "stop_tracker_timeout": 0,
        }
    )
    parameters = lt.load_torrent_buffer(torrent)
    flags = lt.torrent_flags
    parameters.save_path, parameters.upload_limit, parameters.url_seeds = folder, upload, []
    parameters.flags |= flags.seed_mode | flags.override_web_seeds
    parameters.flags &= ~(flags.paused | flags.auto_managed)
    session.add_torrent(parameters).force_reannounce()
    return session
