"""``rellum fetch``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import fetch as view


def fetch(
    write_to: Annotated[
        str,
        typer.Option(
            "--export",
            metavar="FILE.meta4",
            help="Write the missing files to a Metalink file; download nothing.",
        ),
    ] = "",
    lists: Annotated[
        list[str] | None,
        typer.Option(
            "--import",
            metavar="FILE.meta4|FILE.torrent",
            help="Read more addresses from a Metalink file, or a torrent.",
        ),
    ] = None,
    stall: Annotated[
        float,
        typer.Option(
            "--stall", metavar="SECONDS", help="Give up a transfer that stalls for this long."
        ),
    ] = 20,
    tries: Annotated[int, typer.Option("--tries", metavar="N", help="Attempts per address.")] = 5,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Download the archives that the line-up needs, and verify them.

    Transfers go on where they ended, mirrors are tried in turn, and each file is checked by its hash.
    If you stop it, finished files stay. Files that you must download yourself are listed last.
    """
    from rellum.cli.views.fetch_progress import FetchView
    from rellum.core.actions.gather.fetch import fetch as action
    from rellum.core.fetching.model import Patience

    if stall <= 0 or tries < 1:
        raise console.BadCall("--stall is more than 0 seconds, and --tries at least 1")
    if write_to:
        _write_list(pack, write_to, as_json=as_json)
        return
    bar = FetchView()
    try:
        result = action(
            request_of(pack, shelf=True),
            bar.show,
            lists=lists or (),
            patience=Patience(stall=stall, tries=tries),
        )
    except KeyboardInterrupt:
        bar.clear()
        console.note("Stopped. Partial downloads are kept; 'rellum fetch' resumes them.")
        raise typer.Exit(130) from None
    finally:
        bar.clear()
    if as_json:
        console.say_json(view.document(result))
    else:
        view.show(result)
    if result.failed or result.by_hand:
        raise typer.Exit(1)


def _write_list(pack: str, target: str, *, as_json: bool) -> None:
    from rellum.core.actions.gather.fetch import write_list

    files = write_list(request_of(pack, shelf=True), target)
    without = [each for each in files if not each.file.urls]
    if as_json:
        console.say_json({"list": target, "files": [view.needed_document(each) for each in files]})
        return
    console.say(f"{console.count_text(len(files), 'missing file')} listed in {target}.")
    if without:
        names = ", ".join(each.file.name for each in without)
        console.say(f"No address; download by hand: {names}")
