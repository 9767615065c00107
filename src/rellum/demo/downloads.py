"""Where the demo's archives come from: hosts of the stand-in site, by hand, in parts, or already here."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

from rellum.demo.site import DOMAIN, SIGN_IN

_HOSTS: Final = {
    "tidal_currents_3_2_full.zip": ("mirror", "shaky"),
    "tidal_currents_3_2_5_patch.zip": ("members", "files"),
    "keelson-2.4.0.zip": ("busy",),
    "plumb_line_1_2.zip": ("stuck",),
    "brasswork-1.0.zip": ("slow",),
    "gearing-1.1.zip": ("slow",),
}
_BY_HAND: Final = {"icebreaker13.zip": "Sign in, open the page of the file and press Get."}
_PARTS: Final = {"clear-water-2.1.zip": 3}

ALREADY_HERE: Final = {
    "LongSwell-1.0.zip": "LongSwell-1.0.zip",
    "star-charts-dog-watch.zip": "download (3)",
    "clear-water-2.1.zip.001": "clear-water-2.1.zip.001",
    "clear-water-2.1.zip.003": "clear-water-2.1.zip.003",
}
"""What the curator has downloaded before, and under which name it was saved."""
SAVED_PAGE: Final = {"OldLights14.zip": SIGN_IN}
"""A download that went wrong without a word."""

PAGES: Final = {
    "tidal-currents.xml": (
        b'<?xml version="1.0" encoding="utf-8"?>\n<feed xmlns="http://www.w3.org/2005/Atom">\n'
        b"<title>Tidal Currents</title>\n"
        b"<entry><title>Tidal Currents 4.1</title></entry>\n"
        b"<entry><title>Tidal Currents 4.0</title></entry>\n</feed>\n"
    ),
    "clear-water.html": (
        b"<!DOCTYPE html>\n<html><head><title>Clear Water</title></head>\n"
        b"<body><p>Newest: <b>2.2</b></p></body></html>\n"
    ),
}
"""Where two of the mods are published: a feed, and a page."""

FEED_CARD: Final = f"""
[news]
from = "http://files.{DOMAIN}/tidal-currents.xml"
page = "http://files.{DOMAIN}/tidal"
form = "xml"
version = ["feed", "entry", "title"]
pattern = '(?P<version>[0-9.]+)$'
"""
PAGE_CARD: Final = f"""
[news]
from = "http://files.{DOMAIN}/clear-water.html"
pattern = 'Newest: <b>(?P<version>[0-9.]+)</b>'
"""


@dataclass(frozen=True, kw_only=True)
class DemoFile:
    """A file on offer: its name, its bytes, its address."""

    name: str
    content: bytes
    urls: tuple[str, ...]
    by_hand: str
    page: str


def offered_files(archive: str, content: bytes) -> Iterator[DemoFile]:
    """Yield an archive as the world offers it: whole, or cut into parts."""
    count = _PARTS.get(archive, 1)
    step = -(-len(content) // count)
    for number in range(count):
        name = archive if count == 1 else f"{archive}.{number + 1:03}"
        by_hand = _BY_HAND.get(archive, "")
        hosts = () if by_hand else _HOSTS.get(archive, ("files",))
        yield DemoFile(
            name=name,
            content=content[number * step : (number + 1) * step],
            urls=tuple(f"http://{host}.{DOMAIN}/{name}" for host in hosts),
            by_hand=by_hand,
            page=f"http://members.{DOMAIN}/{name}" if by_hand else "",
        )
