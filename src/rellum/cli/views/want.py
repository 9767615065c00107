"""What ``rellum want`` shows, and how it reads its words."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.match import WantsDocument
    from rellum.core.actions.match.wants import WantResult


def show(result: WantResult) -> None:
    """Say what the pack wants now, and which releases that means."""
    which = "any version" if result.range == "*" else result.range
    before = ""
    if result.before is not None and result.before != result.range:
        before = f" (was: {'any version' if result.before == '*' else result.before})"
    if_had = ", if a release fits" if result.optional else ""
    console.say(f"The pack wants {result.mod}, {which}{if_had}{before}.")
    newest = ", ".join(version.text for version in result.matching[:5])
    console.say(f"Releases in that range: {newest}{' …' if len(result.matching) > 5 else ''}")


def show_all(results: Sequence[WantResult]) -> None:
    """Say what the pack wants of several mods."""
    console.table(
        ("wanted", "range", "releases in it"),
        [
            (each.mod, each.range, ", ".join(version.text for version in each.matching[:5]))
            for each in results
        ],
    )


def is_range(word: str) -> bool:
    """Whether a word is a range and not another mod."""
    return bool(re.match(r"[<>=!*]|v?\d", word)) or word.endswith("+")


def options_of(choices: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """Read ``group=choice`` words."""
    chosen: dict[str, tuple[str, ...]] = {}
    for each in choices:
        group, _, names = each.partition("=")
        more = tuple(filter(None, names.split(",")))
        chosen[group] = tuple(dict.fromkeys((*chosen.get(group, ()), *more)))
    return chosen


def refuse_redirected() -> None:
    """Notice that a shell took a range's sign for a redirection, and wrote a file ``=3``.

    Raises BadCall.
    """
    try:
        here = os.fstat(sys.stdout.fileno())
        names = [name for name in os.listdir(".") if re.match(r"=?v?\d|=", name)]
    except (OSError, ValueError, AttributeError):
        return
    for name in names:
        status = os.stat(name)
        if (status.st_dev, status.st_ino) == (here.st_dev, here.st_ino):
            raise console.BadCall(
                f"the shell took '>' for a redirection and writes into a file {name!r}",
                hint=f"Delete that file. Write the range as MOD@{name.lstrip('=') or 'VERSION'}+, or in "
                "quotes.",
            )


def document(results: Sequence[WantResult]) -> WantsDocument:
    """Return wants for programs."""
    return {
        "wants": [
            {
                "mod": each.mod,
                "range": each.range,
                "range_before": each.before,
                "is_optional": each.optional,
                "matching": [version.text for version in each.matching],
            }
            for each in results
        ]
    }
