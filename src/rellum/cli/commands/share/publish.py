"""``rellum publish``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
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
            help="The feed: a folder for any web server, s3://BUCKET/FOLDER, or davs://HOST/FOLDER.",
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
    from rellum.cli.views import publish as view

    if to and not (
        allow or keys or renew or new_keys or take_over or bundle or bill or sums or page
    ):
        from rellum.core.actions.share.same_again import same_again

        if (same := same_again(request_of(pack), to)) is not None:
            view.show_same(to, same, as_json=as_json)
            return
    from rellum.cli.key_password import key_folder_of, password_of
    from rellum.cli.list_files import ListFiles, write_lists
    from rellum.core.actions.share.publish import PublishOptions, renew_feed
    from rellum.core.actions.share.publish import publish as action
    from rellum.core.feed.bundling import feed_folder, write_bundle
    from rellum.core.feed.feed_keys import have_keys, make_keys, require_packages

    require_packages()
    lists = ListFiles(bill, sums, page)
    if not to and (bundle or keys or renew or new_keys or not any(lists)):
        raise console.BadCall("name the feed: rellum publish FOLDER, s3://… or davs://…")
    if (renew or new_keys) and (bundle or any(lists)):
        raise console.BadCall("--renew and --new-keys publish nothing, and write no file beside")
    if not to:
        view.show_lists(write_lists(request_of(pack, shelf=True), lists), as_json=as_json)
        return
    bundled_from = feed_folder(to) if bundle else ""
    folder = key_folder_of(key_folder)
    password = password_of()
    if keys and not have_keys(folder):
        make_keys(folder, password(folder))
        console.note(f"Made the feed's keys in {folder}. Keep a copy in a safe place.")
    if new_keys:
        from rellum.core.actions.share.publish import rotate_keys

        if not have_keys(new_keys):
            make_keys(new_keys, password(new_keys))
        root = rotate_keys(request_of(pack), PublishOptions(to, folder, password), new_keys)
        view.show_rotated(to, new_keys, root, as_json=as_json)
        return
    if renew:
        view.show_renewed(to, renew_feed(to, folder, password), as_json=as_json)
        return
    how = PublishOptions(to, folder, password, words, tuple(allow or ()), take_over)
    with console.progress() as listen:
        result = action(request_of(pack, shelf=True, listen=listen), how)
    written = write_lists(request_of(pack, shelf=True), lists) if any(lists) else ()
    if bundle:
        written = (*written, (bundle, write_bundle(bundled_from, bundle)))
    view.show(result, written, as_json=as_json)
