"""``rellum take``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, cast

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import take as view

if TYPE_CHECKING:
    from rellum.core.actions.gather.archive_taker import TakeOutcome
    from rellum.core.shelf.intake import By


def take(
    archives: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[FILE...]",
            help="Archives, their parts, folders, files, addresses; a .torrent, and where its files are.",
        ),
    ] = None,
    stated: Annotated[
        str, typer.Option("--as", metavar="MOD@VERSION", help="Say which release it is.")
    ] = "",
    by: Annotated[
        str,
        typer.Option("--by", metavar="copy|link|move", help="How to put it on the shelf."),
    ] = "copy",
    each: Annotated[
        bool, typer.Option("--each", help="Take each file in a folder as an archive of its own.")
    ] = False,
    watch: Annotated[
        str,
        typer.Option(
            "--watch",
            metavar="FOLDER",
            help="Watch this folder for missing archives; stop when all are taken.",
        ),
    ] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Check archives, recognise their releases, copy them to the shelf.

    Each archive is read in full. One that is damaged or hostile is refused; the others are taken. A
    folder is taken as one archive. Parts of an archive may come in any order.
    """
    from rellum.core.actions.gather.archive_taker import HowToTake
    from rellum.core.actions.gather.take import take as action
    from rellum.core.actions.gather.take_address import is_address, take_address

    if by not in ("copy", "link", "move"):
        raise console.BadCall(f"--by {by}: it is copy, link or move")
    if not archives and not watch:
        raise console.BadCall("there is nothing to take", hint="Name files, or --watch FOLDER.")
    how = HowToTake(stated=stated, by=cast("By", by), each=each)
    results: list[TakeOutcome] = []
    addresses = [one for one in archives or () if is_address(one)]
    archives = [one for one in archives or () if not is_address(one)]
    for address in addresses:
        with console.progress() as listen:
            request = request_of(pack, listen=listen, shelf=True)
            results += take_address(request, address, how)
    if addresses and not as_json:
        view.show(results)
    if archives:
        with console.progress() as listen:
            results += action(request_of(pack, listen=listen, shelf=True), archives, how)
        if not as_json:
            view.show(results)
            _offer_cards(results, pack, how)
    if watch:
        results += _watch(watch, pack, how, as_json=as_json)
    if as_json:
        console.say_json({"archives": [view.document(each_one) for each_one in results]})
    _tell_refused(results)


def _offer_cards(results: list[TakeOutcome], pack: str, how: Any) -> None:
    """On a terminal: offer to draft cards for what no card knows, and take that again."""
    from rellum.cli.views import describe as describe_view
    from rellum.core.actions.gather.describe import describe_each
    from rellum.core.actions.gather.take import take as action
    from rellum.core.archives.parts import part_of

    unknown = [
        each.path
        for each in results
        if each.is_unknown and not each.likely and not part_of(each.path)
    ]
    if not unknown or how.by == "move" or not console.is_interactive():
        return
    count = console.count_text(len(unknown), "archive")
    if not console.confirm(f"Draft cards for {count} that no card knows?", yes=False):
        return
    with console.progress() as listen:
        request = request_of(pack, listen=listen, shelf=True)
        drafted = list(describe_each(request, unknown, describe_view.ask_version))
        ready = [each.path for each in drafted if each.card and not each.marks]
        again = action(request, ready, how) if ready else ()
    describe_view.show_drafted(drafted)
    if again:
        view.show(list(again))
    for number, each in enumerate(results):
        results[number] = next((one for one in again if one.path == each.path), each)


def _watch(folder: str, pack: str, how: Any, *, as_json: bool) -> list[TakeOutcome]:
    from rellum.core.actions.gather.take_watch import watch

    results: list[TakeOutcome] = []
    with console.progress() as listen:
        for step in watch(request_of(pack, listen=listen, shelf=True), folder, how):
            if step.waiting and not as_json:
                console.note(f"waiting in {folder} for {', '.join(step.waiting)}")
            if not as_json:
                view.show(list(step.taken))
            results += step.taken
    if not as_json and step.to_fetch:
        rest = console.count_text(step.to_fetch, "file")
        console.say(f"All files to get by hand are here; 'rellum fetch' gets the other {rest}.")
    elif not as_json:
        console.say("The shelf has everything that the line-up needs.")
    return results


def _tell_refused(results: list[TakeOutcome]) -> None:
    refused = [each for each in results if each.outcome == "refused"]
    by_error: dict[tuple[str, tuple[str, ...], str], list[str]] = {}
    for each in refused:
        by_error.setdefault((each.reason, each.details, each.hint), []).append(each.path)
    for (reason, details, hint), paths in by_error.items():  # the parts of an archive share one
        of_these = (f"of {', '.join(paths)}",) if len(paths) > 1 else ()
        console.show_error(reason, (*details, *of_these), hint)
    if refused:
        raise typer.Exit(2 if len(refused) == len(results) else 1)
