"""What ``rellum news`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.core.actions.match.news import News
    from rellum.core.solving.newer_releases import NewRelease


def word_of(news: NewRelease) -> str:
    if news.outcome.reason is not None:
        return "blocked"
    return "free" if news.outcome.is_free else "with others"


def size_of(news: NewRelease) -> tuple[str, str]:
    kind = "patch" if news.release.patches else "full"
    return kind, console.bytes_text(news.size) if news.size is not None else "?"


def document(result: News) -> dict[str, Any]:
    from rellum.cli.views.plans import statement_document

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
