"""``rellum publish``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import options
from rellum.cli.request import request_of

KEY_FOLDER = typer.Option(
    "--key-folder",
    envvar="RELLUM_KEYS",
    metavar="FOLDER",
    help="The folder of the feed's keys; else in your own data folder.",
    show_default=False,
)


def publish(
    to: Annotated[
        str,
        typer.Argument(
            metavar="[FEED]",
            help="The feed: a folder for any web server, s3://BUCKET/FOLDER, davs:// or sftp://HOST/FOLDER.",
            show_default=False,
        ),
    ] = "",
    words: Annotated[
        str, typer.Option("--words", metavar="TEXT", help="What is new, for the players.")
    ] = "",
    allow: Annotated[
        list[str] | None,
        typer.Option(
            "--allow", metavar="MOD", help="You may hand on this mod's archives. Repeatable."
        ),
    ] = None,
    keys: Annotated[
        bool, typer.Option("--keys", help="Make the keys of a feed first, if there are none.")
    ] = False,
    renew: Annotated[
        bool, typer.Option("--renew", help="Only say once more that the newest is the newest.")
    ] = False,
    new_keys: Annotated[
        str,
        typer.Option(
            "--new-keys",
            metavar="FOLDER",
            help="Let other keys sign from now on; makes them there.",
        ),
    ] = "",
    take_over: Annotated[
        bool, typer.Option("--take-over", help="Pass over a version that was begun, not finished.")
    ] = False,
    torrent: Annotated[
        str,
        typer.Option(
            "--torrent",
            metavar="URL",
            help="Also a torrent; the web server that has the feed at URL is its seed.",
        ),
    ] = "",
    tracker: Annotated[
        list[str] | None,
        typer.Option(
            "--tracker",
            metavar="URL",
            help="A tracker for the torrent. Repeatable.",
            show_default=False,
        ),
    ] = None,
    bundle: Annotated[
        str, typer.Option("--bundle", metavar="FILE", help="Also the whole feed as one file.")
    ] = "",
    bill: Annotated[
        str, typer.Option("--bill", metavar="FILE", help="A bill of materials (CycloneDX, JSON).")
    ] = "",
    sums: Annotated[
        str, typer.Option("--sums", metavar="FILE", help="SHA-256 sums of all archives.")
    ] = "",
    page: Annotated[
        str, typer.Option("--page", metavar="FILE.html", help="A page with the list of mods.")
    ] = "",
    key_folder: Annotated[str, KEY_FOLDER] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Publish the pack as the next version of a feed that players follow.

    A feed is a folder of plain files: line-up, cards, and the archives that may be handed on. Everything in
    it is signed. Players need its address, and once its fingerprint.
    """
    from rellum.cli.list_files import ListFiles

    if to and not any(
        (allow, keys, renew, new_keys, take_over, torrent, tracker, bundle, bill, sums, page)
    ):
        from rellum.cli.views import publish as view
        from rellum.core.actions.share.same_again import same_again

        if (same := same_again(request_of(pack), to)) is not None:
            view.show_same(to, same, as_json=as_json)
            return
    from rellum.cli.publishing import Asked, publish_as_asked

    publish_as_asked(
        Asked(
            to=to,
            words=words,
            allow=tuple(allow or ()),
            makes_keys=keys,
            renews=renew,
            new_keys=new_keys,
            takes_over=take_over,
            torrent=torrent,
            trackers=tuple(tracker or ()),
            bundle=bundle,
            lists=ListFiles(bill, sums, page),
            key_folder=key_folder,
            pack=pack,
            as_json=as_json,
        )
    )
