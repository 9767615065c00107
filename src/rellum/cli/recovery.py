"""Reporting the end of an interrupted change. Small, because nearly every command imports it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.paths import shown

if TYPE_CHECKING:
    from rellum.core.change.recover import Recovered


def tell_recovered(recovered: Recovered) -> None:
    """Say what an interrupted change came to."""
    how = "finished" if recovered.outcome == "finished" else "taken back"
    console.warn(f"'{recovered.action}' was interrupted; it has been {how} now")
    for path in recovered.left:
        console.warn(f"{shown(path)} was changed by another program since, and was left as it is")
