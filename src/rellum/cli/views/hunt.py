"""What ``rellum hunt`` shows and asks."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.core.actions.live.hunt import HuntEnd, HuntState
    from rellum.core.change.request import Request
    from rellum.core.hunting.hunt import Answer
    from rellum.core.hunting.stage import Rates

RELIABLY = ("always", "mostly", "sometimes")
"""How often a broken pack shows that it is."""

_OTHER_STATUS = 125
"""With this exit status a command says that something else went wrong."""
_FEW = 8
_WHYS = {
    "whole": "the whole pack: does it break?",
    "vanilla": "no mod at all: does vanilla work?",
    "search": "a part of the pack",
    "alone": "just those found, with what they need",
    "prove": "without one of those found",
    "fix": "the pack without the culprit: does it work?",
    "put back": "the pack with one of the culprits back",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Answering:
    """Who answers: a command, the game's log, or (neither) a person; ``limit`` in seconds."""

    command: str
    by_log: bool
    repeat: int
    limit: float | None


def as_answer(text: str) -> Answer:
    """Return an answer as the hunter takes it."""
    return "works" if text == "works" else "breaks" if text == "breaks" else "other"


def rates_of(breaks: str, repeat: int, *, may_ask: bool) -> Rates:
    """Return how often answers are wrong, by what was said or is asked now."""
    from rellum.core.hunting.stage import CLEAN, RARELY_WRONG, SHOWS_OFTEN, Rates

    if not breaks and may_ask:
        words = ("every time", "nearly every time", "about four times in five")
        said = console.choose("How reliably does it break?", words, likeliest_first=True)
        breaks = RELIABLY[words.index(said)] if said in words else "always"
    rates = {"mostly": RARELY_WRONG, "sometimes": SHOWS_OFTEN}.get(breaks, CLEAN)
    return Rates(max(rates.miss**repeat, CLEAN.miss), rates.alarm)


def show_begun(state: HuntState, *, as_json: bool) -> None:
    if not as_json:
        count = console.count_text(state.mods, "mod")
        console.say(f"Hunting in {count}. Settings and saves are kept, and the same in each round.")
        console.say("If you stop, 'rellum hunt' goes on, and 'rellum hunt --stop' gives it up.")


def show_question(state: HuntState, *, as_json: bool) -> None:
    question = state.question
    if as_json or question is None:
        return
    number = console.styled(f"Round {state.rounds + 1}", "bold")
    count = console.count_text(len(question.mods), "mod")
    console.say(f"{number}: {count} of {state.mods} laid; {_WHYS[question.why]}")
    if question.why == "search":
        rounds = console.count_text(question.left, "more round")
        console.say(f"  This member: at most {rounds}, if all answers are right.")
        if question.suspects and question.suspects[0][1] > 0.2:
            likely = ", ".join(
                f"{mod} {share:.0%}" for mod, share in question.suspects if share > 0.01
            )
            console.say(f"  One of them, likeliest first: {likely}")


def answer_for(request: Request, answering: Answering) -> Answer | None:
    """Get the answer for what is laid; None where nobody gives one now."""
    if answering.command:
        return _worst(_by_command(answering) for _ in range(answering.repeat))
    if answering.by_log:
        return _worst(_by_log(request, answering) for _ in range(answering.repeat))
    if not console.is_interactive():
        return None
    choices = ("it works", "the same break", "something else happens", "stop for now")
    said = console.choose("Start the game and look. How did it go?", choices)
    answers: dict[str, Answer] = {choices[0]: "works", choices[1]: "breaks", choices[2]: "other"}
    return answers.get(said or "")


def _worst(answers: Iterable[Answer]) -> Answer:
    """Return the first answer that is not 'works': a break does not always show."""
    return next((each for each in answers if each != "works"), "works")


def _by_command(answering: Answering) -> Answer:
    import subprocess

    try:
        done = subprocess.run(
            answering.command,
            shell=True,
            stdin=subprocess.DEVNULL,
            stdout=sys.stderr if console.wants_json() else None,
            timeout=answering.limit,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return "breaks"
    if done.returncode in (_OTHER_STATUS, 126, 127):
        return "other"
    return "breaks" if done.returncode else "works"


def _by_log(request: Request, answering: Answering) -> Answer:
    from rellum.core.actions.live.play import find_stage, start

    run = start(find_stage(request), answering.limit)
    if run.status is None and not run.verdict:
        return "breaks"  # it hung
    return run.verdict or "other"


def show_answer(answer: Answer, *, as_json: bool) -> None:
    if not as_json:
        console.say(f"  {'something else happens' if answer == 'other' else answer}")


def show_waiting(state: HuntState, *, as_json: bool) -> None:
    question = state.question
    assert question is not None
    if as_json:
        console.say_json(
            {
                "round_count": state.rounds,
                "mods": sorted(question.mods),
                "why": question.why,
                "at_most_more_count": question.left,
                "suspects": [{"mod": mod, "share": share} for mod, share in question.suspects],
                "ended": None,
            }
        )
        return
    console.say("Start the game and look, then: rellum hunt --answer works (or breaks, or other)")


def show_end(end: HuntEnd, state: HuntState, *, as_json: bool) -> None:
    found = end.found
    if as_json:
        from rellum.cli.documents.shared import release_document

        console.say_json(
            {
                "round_count": state.rounds,
                "ended": found.ending,
                "culprits": [sorted(each) for each in found.culprits],
                "proven": sorted(found.proven),
                "relations": list(end.relations),
                "works_without": sorted(_left_out(found.culprits, found.fixed)),
                "resolve_would_choose": [
                    {"release": release_document(after), "instead_of": release_document(before)}
                    for before, after in end.instead
                ],
                "trial_count": end.trials,
            }
        )
        return
    console.say()
    rounds = console.count_text(state.rounds, "round")
    told = {
        "vanilla breaks": "Vanilla breaks too: it is none of the mods. 'rellum check --deep' looks closer.",
        "nothing breaks": "The pack did not break, twice: there is nothing to hunt for now.",
        "guess": f"After {rounds} it is only a guess:",
        "cannot be told": f"After {rounds} it cannot be told further: something else happens instead.",
        "found": f"Found, in {rounds}:",
    }[found.ending]
    console.say(console.styled(told, "bold"))
    for each in found.culprits:
        names = " and ".join(sorted(each))
        console.say(f"  {names}" + (", together" if len(each) > 1 else ""))
    if found.untold:
        console.say(f"  It breaks with these in: {', '.join(sorted(found.untold)[:_FEW])}")
        console.say("  Probably one of them has a need that no card states.")
    for line in end.relations[:_FEW]:
        console.say(f"  {line}")
    if found.ending == "found" and found.fixed is not None:
        gone = sorted(_left_out(found.culprits, found.fixed))
        console.say(f"Tried: the pack works without {' and '.join(gone)}.")
        for mod in gone:
            kind = "graft" if mod.startswith("graft:") else ""
            console.say(
                f"  rellum graft {mod.removeprefix('graft:')} --off"
                if kind
                else f"  rellum drop {mod}"
            )
    if end.instead:
        new = ", ".join(f"{after} instead of {before.version}" for before, after in end.instead)
        console.say(f"Not tried: {new}")
        console.say("  rellum resolve")
    if end.trials:
        count = console.count_text(end.trials, "trial")
        console.say(f"Recorded {count}: these are not chosen together again on this game version.")
    console.say("The whole pack is laid again, with settings and saves as before the hunt.")


def _left_out(culprits: tuple[frozenset[str], ...], fixed: frozenset[str] | None) -> set[str]:
    if fixed is None:
        return set()
    return {mod for each in culprits for mod in each if mod not in fixed}
