"""Reading trials: ``trials.toml`` in a catalog or a pack."""

from __future__ import annotations

import datetime
import os
from typing import Literal

from rellum.core.catalog.model import Trial
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import Fault, TableReader, fault_lines, parse_toml
from rellum.core.catalog.written_ids import parse_id
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import parse_version


def read_trials(file: str, faults: list[str]) -> tuple[Trial, ...]:
    """Read a file of trials, noting every fault; none where there is no such file."""
    if not os.path.exists(file):
        return ()
    table, syntax_fault = parse_toml(file)
    if table is None:
        faults.append(syntax_fault)
        return ()
    noted: list[Fault] = []
    root = TableReader(table, Source(file=file), noted)
    trials = tuple(trial for each in root.tables("trial") if (trial := _read_trial(each)))
    root.finish()
    faults.extend(fault_lines(noted))
    return trials


def _read_trial(reader: TableReader) -> Trial | None:
    outcome = _read_outcome(reader)
    game = reader.parsed("game", "1.6.0", parse_version, required=True)
    date = _read_date(reader)
    note = reader.text("note", "an evening's game, no crash") or ""
    grafts = reader.texts("grafts", "strait-as-shelf")
    table = reader.table("releases", required=not grafts)
    releases = []
    for mod in table.names():
        table.convert(mod, parse_id, mod)
        version = table.text(mod, "3.2")
        if version is not None:
            releases.append((ModId(mod), version))
    if not releases and "releases" in reader:
        reader.fault('name at least one; write e.g. releases = { ice-breaker = "1.3" }', "releases")
    reader.finish()
    if outcome is None or game is None or not (releases or grafts):
        return None
    return Trial(
        outcome=outcome,
        game=game,
        date=date,
        releases=tuple(releases),
        note=note,
        source=reader.source,
        grafts=grafts,
    )


def _read_outcome(reader: TableReader) -> Literal["works", "breaks"] | None:
    text = reader.text("outcome", "works", required=True)
    if text == "works":
        return "works"
    if text == "breaks":
        return "breaks"
    if text is not None:
        reader.fault(f"{text!r} is neither works nor breaks", "outcome")
    return None


def _read_date(reader: TableReader) -> str:
    """Read a day, as a TOML date or as a text of the same form."""
    if reader.holds("date", datetime.date):
        return str(reader.value("date"))
    text = reader.parsed("date", "2026-05-01", datetime.date.fromisoformat, required=True)
    return "" if text is None else text.isoformat()
