"""``rellum news``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.match.news import News
    from rellum.core.solving.newer_releases import NewRelease


def news(
    mods: Annotated[
        list[str] | None,
        typer.Argument(metavar="[MOD...]", help="Only these mods. Default: all in the line-up."),
    ] = None,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Show newer releases, and what would change if you take one."""
    from rellum.core.actions.match.news import news as action

    result = action(request_of(pack), mods or [])
    if as_json:
        console.say_json(_document(result))
        return
    if not result.releases:
        count = console.count_text(result.mods, "mod")
        console.say(f"No newer releases of {count}: the line-up has the newest.")
        return
    console.say(console.styled(f"Newer releases, for game {result.game}", "bold"))
    rows = [
        (
            _word(each),
            each.release.mod,
            each.now.label,
            each.release.label,
            *_size(each),
            each.brief,
        )
        for each in result.releases
    ]
    headings = ("news", "mod", "now", "newer", "as", "size", "if you take it")
    console.table(headings, rows, right=(5,))
    free = [each.release.mod for each in result.releases if each.outcome.is_free]
    console.say()
    if free:
        console.say(
            f"To take the free ones: rellum resolve --fresh {' '.join(dict.fromkeys(free))}"
        )
    console.say("For details: 'rellum why MOD VERSION'.")


def _word(news: NewRelease) -> str:
    if news.outcome.reason is not None:
        return "blocked"
    return "free" if news.outcome.is_free else "with others"


def _size(news: NewRelease) -> tuple[str, str]:
    kind = "patch" if news.release.patches else "full"
    return kind, console.bytes_text(news.size) if news.size is not None else "?"


def _document(result: News) -> dict[str, Any]:
    from rellum.cli.render import statement_document

    return {
        "game": result.game.text,
        "releases": [
            {
                "mod": each.release.mod,
                "version_now": each.now.version.text,
                "version": each.release.version.text,
                "build": each.release.build or None,
                "can_be_taken": each.outcome.reason is None,
                "is_free": each.outcome.is_free,
                "is_patch": each.release.patches is not None,
                "size": each.size,
                "brief": each.brief,
                "statements": [statement_document(one) for one in each.statements],
            }
            for each in result.releases
        ],
    }
