"""From a command's options to the request that its action takes."""

from __future__ import annotations

from rellum.cli.options import HERE
from rellum.cli.recovery import tell_recovered
from rellum.core.change.request import Request
from rellum.core.pack.finding import find_pack
from rellum.core.progress import Listener, silent


def request_of(
    pack: str,
    *,
    shelf: bool = False,
    listen: Listener = silent,
    even_if_running: bool = False,
    begins: bool = False,
) -> Request:
    """Return the request for a pack that tells people on the terminal what is done.

    ``shelf``: the action needs this user's shelf; to find it takes a moment. ``begins``: the action may make
    the pack. Else, where no pack is named, it may lie further up, or this folder may lie in its game.
    """
    if pack == HERE and not begins:
        pack = find_pack(pack)
    folder = ""
    if shelf:
        from rellum.core.shelf.location import shelf_folder

        folder = shelf_folder()
    return Request(
        pack_folder=pack,
        shelf_folder=folder,
        on_recovered=tell_recovered,
        listen=listen,
        even_if_running=even_if_running,
    )
