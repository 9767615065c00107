"""What ``rellum news`` shows."""

from __future__ import annotations

from itertools import groupby
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.match import LookedDocument, NewsDocument
    from rellum.core.actions.match.look import Looked
    from rellum.core.actions.match.news import News
    from rellum.core.solving.newer_releases import NewRelease


def word_of(news: NewRelease) -> str:
    if news.outcome.reason is not None:
        return "blocked"
    return "free" if news.outcome.is_free else "with others"


def size_of(news: NewRelease) -> tuple[str, str]:
    kind = "patch" if news.release.patches else "full"
    return kind, console.bytes_text(news.size) if news.size is not None else "?"


def rows(result: News) -> list[tuple[str, ...]]:
    """Return the rows of the table: releases of one mod of which the same is said share one."""
    said = groupby(
        result.releases, lambda each: (each.release.mod, word_of(each), each.brief, each.now.label)
    )
    found: list[tuple[str, ...]] = []
    for (mod, word, brief, now), releases in said:
        newest, *older = releases
        newer = newest.release.label
        if older:
            newer = f"{older[-1].release.label} {'to' if older[1:] else 'and'} {newer}"
        found.append((word, mod, now, newer, *size_of(newest), brief))
    return found


def document(result: News) -> NewsDocument:
    from rellum.cli.documents.shared import statement_document

    return {
        "game_version": result.game.text,
        "releases": [
            {
                "release": {
                    "mod": each.release.mod,
                    "version": each.release.version.text,
                    "build": each.release.build or None,
                },
                "version_now": each.now.version.text,
                "can_be_taken": each.outcome.reason is None,
                "is_free": each.outcome.is_free,
                "is_patch": each.release.patches is not None,
                "bytes": each.size,
                "brief": each.brief,
                "statements": [statement_document(one) for one in each.statements],
            }
            for each in result.releases
        ],
    }


def show_looked(result: Looked) -> None:
    """Say which mods have a version that their cards do not have, and where to get it."""
    if not result.looks and not result.unnamed:
        console.say("There are no mods to look for: the pack wants none.")
    newer = [each for each in result.looks if each.is_newer]
    faults = [each for each in result.looks if each.fault]
    if newer:
        console.table(
            ("mod", "in use", "card has", "published", "get it from"),
            [
                (each.mod, each.now or "-", each.in_card, each.published, each.page)
                for each in newer
            ],
        )
    for each in faults:
        console.warn(f"{each.mod}: {each.page}: {each.fault}")
    known = len(result.looks) - len(newer) - len(faults)
    if known:
        mods = console.count_text(known, "mod")
        console.say(f"For {mods}, nothing is published that is newer than the card.")
    kept = sum(each.is_kept for each in result.looks)
    if kept:
        answers = console.count_text(kept, "answer")
        console.say(f"{answers} from the last six hours; the sites were not asked again.")
    if result.unnamed:
        mods = console.count_text(len(result.unnamed), "card names", "cards name")
        console.say(f"{mods} no page: add [news] to look there, too.")
    if newer:
        console.say("When you have downloaded one: rellum take FILE")


def looked_document(result: Looked) -> LookedDocument:
    return {
        "mods": [
            {
                "mod": each.mod,
                "version_now": each.now or None,
                "version_in_card": each.in_card,
                "version_published": each.published or None,
                "is_newer": each.is_newer,
                "is_from_cache": each.is_kept,
                "page": each.page,
                "fault": each.fault or None,
            }
            for each in result.looks
        ],
        "without_page": list(result.unnamed),
    }
