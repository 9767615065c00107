"""``trials.toml`` of a pack: outcomes are added at its end; nothing that stands there is touched."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence

from rellum.core.catalog.model import Trial
from rellum.core.catalog.tables import raise_faults
from rellum.core.catalog.trials import read_trials
from rellum.core.durable import write_durably
from rellum.core.pack.home import PackHome
from rellum.core.values.ids import ModId

HEAD = (
    "#:schema .rellum/schemas/trials.json\n"
    "# What was tried, and whether it worked. Written by 'rellum trial', or by hand.\n"
)


def read_pack_trials(home: PackHome) -> tuple[Trial, ...]:
    """Return the pack's own trials. Raises FileFaults."""
    faults: list[str] = []
    trials = read_trials(home.trials_file, faults)
    raise_faults(faults, "trials.toml")
    return trials


def add_trial(
    home: PackHome,
    *,
    outcome: str,
    game: str,
    date: str,
    releases: Sequence[tuple[ModId, str]],
    note: str,
    grafts: Sequence[str] = (),
) -> None:
    """Add an outcome at the end of the file, which is made where there is none.

    ``date`` is ISO 8601. Raises FileFaults where the file has mistakes, OSError.
    """
    read_pack_trials(home)
    before = HEAD
    if os.path.exists(home.trials_file):
        with open(home.trials_file, encoding="utf-8", newline="") as file:
            before = file.read()
        if before and not before.endswith("\n"):
            before += "\n"
    lines = ["", "[[trial]]", f'outcome = "{outcome}"', f"game = {_quoted(game)}", f"date = {date}"]
    if note:
        lines.append(f"note = {_quoted(note)}")
    if grafts:
        lines.append(f"grafts = [{', '.join(map(_quoted, grafts))}]")
    if releases:
        lines += ["", "  [trial.releases]"]
    lines += [f"  {mod} = {_quoted(version)}" for mod, version in releases]
    write_durably(home.trials_file, (before + "\n".join(lines) + "\n").encode("utf-8"))


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")
