"""``rellum backup``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import backup as view

if TYPE_CHECKING:
    from rellum.core.actions.live.bring_back import BringingBack, BroughtBack

_WHAT = ("make", "list", "show", "compare", "back", "check", "drop", "export", "import")
_COUNTS = {"make": (0, 1), "list": (0, 0), "show": (0, 1), "compare": (0, 2), "back": (0, 99),
           "check": (0, 0), "drop": (1, 99), "export": (2, 2), "import": (1, 1)}  # fmt: skip


def backup(
    what: Annotated[
        str,
        typer.Argument(
            metavar="[make|list|show|compare|back|check|drop|export|import]",
            help="What to do; make is the default.",
        ),
    ] = "make",
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME]...",
            help="A backup's name or number; then files or folders (back), another backup (compare), "
            "a zip file (export). import: a zip file.",
        ),
    ] = None,
    exactly: Annotated[
        bool, typer.Option("--exactly", help="back: remove files that came since.")
    ] = False,
    yes: options.Yes = False,
    even_if_running: options.EvenIfRunning = False,
    every: options.Full = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Keep saves, worlds and settings; list, compare and bring back what was kept.

    A backup is also made before every change of the game. Of these the newest twenty stay, then one a day and
    one a month; those with a name stay. Without a name, 'show', 'compare' and 'back' mean the newest.
    """
    from rellum.core.actions.live import backup as actions

    given = names or []
    if what not in _WHAT:
        raise console.BadCall(
            f"'rellum backup {what}': it is one of {', '.join(_WHAT)}",
            hint=f"To give a backup a name: rellum backup make {what}",
        )
    fewest, most = _COUNTS[what]
    if not fewest <= len(given) <= most:
        raise console.BadCall(f"'rellum backup {what}' does not take {len(given)} names")
    if exactly and what != "back":
        raise console.BadCall("--exactly goes with 'rellum backup back'")
    request = request_of(pack, even_if_running=even_if_running)
    first, second = (*given, "", "")[:2]

    def ask(bringing: BringingBack) -> bool:
        view.show_plan(bringing, files=not yes, every=every)
        return console.confirm("Bring these back?", yes=yes)

    if what == "make":
        view.show_made(actions.make_backup(request, first), as_json=as_json)
    elif what == "list":
        view.show_list(actions.list_backups(request), as_json=as_json)
    elif what == "show":
        view.show_one(*actions.show_backup(request, first), as_json=as_json)
    elif what == "compare":
        view.show_comparison(actions.compare_backups(request, first, second), as_json=as_json)
    elif what == "check":
        view.show_damaged(actions.check_backups(request), as_json=as_json)
    elif what == "drop":
        dropped, freed = actions.drop_backups(request, given)
        if as_json:
            document = {"backups": list(map(view.document, dropped)), "freed_bytes": freed}
            console.say_json(document)
        view.show_dropped(dropped, freed)
    elif what == "export":
        from rellum.core.actions.live.backup_zip import export_backup

        backup, lost = export_backup(request, first, second)
        if as_json:
            console.say_json({"backup": view.document(backup), "file": second, "lost": list(lost)})
        view.show_exported(backup, lost, second)
    elif what == "import":
        from rellum.core.actions.live.backup_zip import import_backup

        _end(import_backup(request, first, ask))
    else:
        from rellum.core.actions.live.bring_back import bring_back

        _end(bring_back(request, first, given[1:], ask, exactly=exactly))


def _end(result: BroughtBack) -> None:
    """Say what was brought back; exit with 1 where nothing was, or not all."""
    if console.wants_json():
        console.say_json(view.brought_document(result))
    if not view.show_brought(result):
        raise typer.Exit(1)
