"""What ``rellum play`` shows and asks."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.core.actions.live.play import PlayResult, Run, Said, Stage

_LINES = 12
"""Lines of the log that are shown where the game broke."""

_WORKS, _BUT, _BREAKS, _UNKNOWN = "works", "works, but …", "breaks", "I cannot tell"


def show_stage(stage: Stage) -> None:
    """Say what is started, and what to look at."""
    mods = console.count_text(len(stage.line_up), "mod") if stage.line_up else "vanilla"
    by = f", by {stage.by}" if stage.by else ""
    program = os.path.basename(stage.program)
    console.say(f"Starting {program}{by}: game {stage.game}, variant {stage.variant}, {mods}.")
    if stage.drift:
        count = console.count_text(stage.drift, "difference")
        console.warn(
            f"the game folder is not as Rellum left it: {count}; 'rellum check' lists them"
        )
    if stage.look_at:
        console.say("Look at this:")
        for who, what in stage.look_at:
            console.say(f"  {what}  ({who})")


def show_run(stage: Stage, run: Run) -> None:
    """Say what the log tells."""
    how = "was ended by --limit" if run.status is None else f"ended with status {run.status}"
    console.say(f"It {how}, after {run.seconds:.1f} s.")
    if run.reading.line:
        console.say(f"Its log says: {run.reading.line}")
    elif run.verdict == "breaks":
        for line in run.log.splitlines()[-_LINES:]:
            console.say(f"  {line}")
    found = run.comparison
    rows = [("failed", mod, "") for mod in found.failed]
    rows += [("not loaded", mod, "") for mod in found.missing]
    rows += [
        ("outdated", mod, f"loaded {has}, not {wanted}") for mod, wanted, has in found.outdated
    ]
    rows += [("not a mod of the pack", mod, "") for mod in found.extra]
    if rows:
        console.table(("in the log", "mod", ""), rows)
    elif run.reading.loaded and stage.line_up:
        count = console.count_text(len(run.reading.loaded), "mod")
        console.say(f"It loaded {count}, as the line-up has them.")


def ask_outcome(run: Run, given: str, *, may_ask: bool) -> Said:
    """Return how it went: as it was given, as a person says, or as the log does."""
    from rellum.core.actions.live.play import Said

    if given in ("works", "breaks"):
        return Said(outcome="works" if given == "works" else "breaks")
    if given == "log" or not may_ask or not console.is_interactive():
        return Said(outcome=run.verdict)
    choices = [_WORKS, _BUT, _BREAKS, _UNKNOWN]
    likeliest = _BREAKS if run.verdict == "breaks" else _WORKS
    choices.sort(key=lambda each: each != likeliest)
    said = console.choose("How did it go?", choices, likeliest_first=True)
    if said == _BUT:
        return Said(
            outcome="works", word=console.ask("But what? In a word (sound missing, slow …):")
        )
    return Said(outcome="works" if said == _WORKS else "breaks" if said == _BREAKS else "")


def show_result(result: PlayResult, *, as_json: bool) -> None:
    stage, run, said = result.stage, result.run, result.said
    if as_json:
        from rellum.cli.documents.shared import release_of_mod

        console.say_json(
            {
                "program": stage.program,
                "variant": stage.variant,
                "game_version": stage.game,
                "releases": [release_of_mod(mod, label) for mod, label in stage.line_up.items()],
                "seconds": round(run.seconds, 1),
                "exit_status": run.status,
                "outcome": said.outcome or None,
                "word": said.word or None,
                "log_line": run.reading.line or None,
                "not_loaded": list(run.comparison.missing),
                "failed": list(run.comparison.failed),
                "outdated": [
                    {"mod": mod, "version": wanted, "loaded": has}
                    for mod, wanted, has in run.comparison.outdated
                ],
                "extra": list(run.comparison.extra),
                "trial": result.trial,
                "unrecorded": result.unrecorded or None,
                "good_checkpoint": result.checkpoint,
            }
        )
        return
    if result.unrecorded:
        console.warn(f"the game ran, and that could not be recorded: {result.unrecorded}")
        return
    if not said.outcome:
        console.say("How it went is not known, so no trial was recorded.")
        console.say("Record it with 'rellum trial works' or 'rellum trial breaks'.")
        return
    what = f"{said.outcome}, but {said.word}" if said.word else said.outcome
    where = "as a trial" if result.trial else "in the history"
    console.say(f"Recorded {where}: {what}.")
    if result.checkpoint is not None:
        console.say(
            f"Checkpoint {result.checkpoint} is marked good: 'rellum rewind --good' goes back to it."
        )
    if said.outcome == "breaks" and stage.line_up:
        console.say("Next: 'rellum hunt' finds the mod that breaks it; 'rellum rewind' goes back.")
