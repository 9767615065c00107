"""Remedies when there is no line-up. Each was tried, and gives one.

From the cheapest: let a want's range or a hold go, take a pre-release, trust what was tried; then
another version of the game; then an expansion or another edition; then giving up mods. Where none of these
helps by itself, two of them together are tried.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import nullcontext, suppress
from dataclasses import dataclass, replace
from typing import Final, Literal

from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.giving_up import fewest_to_give_up
from rellum.core.solving.problem import Hold, Problem, Want
from rellum.core.solving.prover import OutOfWork, Work
from rellum.core.solving.refusal import QUICKLY, Refusal, reason_of, without
from rellum.core.solving.search import Found, NotFound, Searcher
from rellum.core.solving.sentences import want_words
from rellum.core.solving.solve import chosen_releases
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range
from rellum.core.versions.version import Version

RemedyKind = Literal[
    "widen", "let-go", "pre-release", "trust", "game", "expansion", "edition", "drop"
]
_MOST_PAIRS: Final = 3
_MOST_FIRST: Final = 12
"""With so many changes, at most, a second one is tried."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """A change with which there is a line-up. ``command`` does it, empty where none can."""

    kind: RemedyKind
    text: str
    command: str = ""


Tell = Callable[[Searcher, Found], tuple[str, str]]
"""Says a change in words, and the command for it, from what it leads to."""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Change:
    """One thing that could be otherwise: the problem then, and how it is told.

    ``is_new_world``: other clauses are needed to answer, so that another searcher must.
    """

    kind: RemedyKind
    subject: object
    problem: Problem
    tell: Tell
    is_new_world: bool = False


def find_remedies(
    searcher: Searcher, problem: Problem, refusal: Refusal, work: Work | None = None
) -> tuple[Remedy, ...]:
    """Return what would help, the cheapest first. Every one was tried.

    Where ``work`` does not suffice, less is left of it than nothing, and there may be others.
    """
    found: list[Remedy] = []
    searcher.work = work
    try:
        for each in _tried(searcher, problem, refusal):
            found.append(each)
    except OutOfWork:
        pass
    finally:
        searcher.work = None
    return tuple(found)


def _tried(searcher: Searcher, problem: Problem, refusal: Refusal) -> Iterator[Remedy]:
    failed: list[tuple[_Change, Searcher, NotFound]] = []
    helps = False
    for change in _changes(searcher, problem, refusal.reason.causes):
        asked, found = _ask(searcher, change)
        if isinstance(found, NotFound):
            failed.append((change, asked, found))
            continue
        helps = True
        text, command = change.tell(asked, found)
        yield Remedy(kind=change.kind, text=text, command=command)
    if not helps:
        yield from _within_half(searcher, lambda: _pairs(searcher, failed[:_MOST_FIRST]))
        yield from _fewest(searcher, problem)


def _ask(searcher: Searcher, change: _Change) -> tuple[Searcher, Found | NotFound]:
    """Return whether a change helps, and the searcher that says so."""
    if change.is_new_world:
        other = Searcher(change.problem)
        other.work = searcher.work
        searcher = other
    return searcher, searcher.search(change.problem)


def _within_half(searcher: Searcher, look: Callable[[], Iterable[Remedy]]) -> Iterator[Remedy]:
    """Yield what is found with half of the work that is left."""
    whole = searcher.work
    with whole.part(2) if whole else nullcontext() as searcher.work, suppress(OutOfWork):
        yield from look()
    searcher.work = whole


def _pairs(
    searcher: Searcher, failed: Iterable[tuple[_Change, Searcher, NotFound]]
) -> Iterator[Remedy]:
    """Yield two changes that help together: a second one against what still stands after the first."""
    told: set[frozenset[tuple[str, object]]] = set()
    for first, asked, refused in failed:
        against = reason_of(asked, refused, Work(QUICKLY)).causes
        for second in _changes(asked, first.problem, against):
            both = frozenset({(first.kind, first.subject), (second.kind, second.subject)})
            if len(both) == 1 or both in told or {first.kind, second.kind} == {"drop"}:
                continue
            last, found = _ask(asked, second)
            if isinstance(found, NotFound):
                continue
            told.add(both)
            texts, commands = zip(
                *(each.tell(last, found) for each in (first, second)), strict=True
            )
            yield Remedy(
                kind=first.kind,
                text=" and ".join(texts),
                command="; ".join(commands) if all(commands) else "",
            )
            if len(told) == _MOST_PAIRS:
                return


def _changes(searcher: Searcher, problem: Problem, against: Iterable[Cause]) -> Iterator[_Change]:
    """Yield what could be otherwise of what some statements speak of, the cheapest first."""
    against = list(against)
    wants = [each.want for each in against if isinstance(each, causes.Wanted)]
    yield from (_widen(problem, want) for want in wants if not want.range.is_any)
    yield from (_let_go(problem, each.hold) for each in against if isinstance(each, causes.Held))
    for cause in against:
        if isinstance(cause, causes.Prerelease):
            yield from _take_prerelease(problem, cause.variable.id)
    if problem.trust == "declared" and any(t.outcome == "works" for t in problem.trials):
        yield _changed(
            "trust", "", replace(problem, trust="tried"), "trust what was tried, too",
            "rellum decide trust tried", is_new_world=True,
        )  # fmt: skip
    if any(isinstance(each, (causes.GameIs, causes.Broke)) for each in against):
        yield from _other_games(searcher.surroundings.games, problem)
    for cause in against:
        if isinstance(cause, causes.ExpansionIs):
            yield _other_expansion(problem, cause)
        if isinstance(cause, causes.EditionIs):
            yield from _other_editions(searcher, problem)
    for want in wants:
        command = f"rellum drop {want.mod}"
        yield _changed(
            "drop", want.mod, without(problem, want), f"drop {want_words(want)}", command
        )


def _changed(
    kind: RemedyKind,
    subject: object,
    problem: Problem,
    text: str,
    command: str = "",
    *,
    is_new_world: bool = False,
) -> _Change:
    """Return a change that is told in the same words, whatever it leads to."""
    return _Change(
        kind=kind,
        subject=subject,
        problem=problem,
        tell=lambda *_: (text, command),
        is_new_world=is_new_world,
    )


def _widen(problem: Problem, want: Want) -> _Change:
    """Let a want go outside its range: to the release that would then be chosen."""
    anything = replace(want, range=parse_range("*", problem.catalog.ordering(want.mod)))
    wants = tuple(anything if each.mod == want.mod else each for each in problem.wants)

    def tell(searcher: Searcher, found: Found) -> tuple[str, str]:
        release = chosen_releases(searcher, found).get(want.mod)
        if release is None:
            return f"let {want.mod} be any release", f"rellum want {want.mod}"
        lower = all(release.version.key < low.key for low, _ in want.range.intervals)
        return (
            f"let {want.mod} go {'down ' if lower else ''}to {release.version}",
            f"rellum want {want.mod} '{want.range} | {release.version}'",
        )

    return _Change(kind="widen", subject=want.mod, problem=replace(problem, wants=wants), tell=tell)


def _let_go(problem: Problem, hold: Hold) -> _Change:
    free = replace(problem, holds=tuple(each for each in problem.holds if each is not hold))

    def tell(searcher: Searcher, found: Found) -> tuple[str, str]:
        release = chosen_releases(searcher, found).get(hold.mod)
        then = f"; it would be {release.version}" if release else ""
        return f"let go of the hold on {hold.mod}{then}", f"rellum hold {hold.mod} --off"

    return _Change(kind="let-go", subject=hold.mod, problem=free, tell=tell)


def _take_prerelease(problem: Problem, mod: ModId) -> Iterator[_Change]:
    """Yield the change that asks for the newest pre-release of a mod."""
    releases = problem.catalog.mods[mod].releases
    newest = next(each for each in releases if each.version.is_prerelease)
    text = f">={newest.version}"
    range_ = parse_range(text, problem.catalog.ordering(mod))
    before = next((each for each in problem.wants if each.mod == mod), None)
    if before is None and not problem.wants:
        return
    source = before.source if before else problem.wants[0].source
    asked = Want(mod=mod, range=range_, source=source)
    others = tuple(each for each in problem.wants if each.mod != mod)
    yield _changed(
        "pre-release", mod, replace(problem, wants=(*others, asked)),
        f"take the pre-release {mod} {newest.version}", f"rellum want {mod} '{text}'",
        is_new_world=True,
    )  # fmt: skip


def _other_games(known: tuple[Version, ...], problem: Problem) -> Iterator[_Change]:
    """Yield other versions of the game, the nearest first."""
    here = known.index(problem.games[0])
    for version in sorted(known, key=lambda each: abs(known.index(each) - here)):
        if version not in problem.games:
            move = "go back to" if version < problem.games[0] else "move to"
            there = replace(problem, games=(version,))
            yield _changed("game", "", there, f"{move} game {version}")


def _other_expansion(problem: Problem, cause: causes.ExpansionIs) -> _Change:
    name = cause.expansion
    others = tuple(each for each in problem.expansions if each != name)
    changed = others if cause.there else (*others, name)
    text = f"play without the expansion {name}" if cause.there else f"get the expansion {name}"
    return _changed("expansion", name, replace(problem, expansions=changed), text)


def _other_editions(searcher: Searcher, problem: Problem) -> Iterator[_Change]:
    for name in searcher.surroundings.editions:
        if name != problem.edition:
            there = replace(problem, edition=name)
            yield _changed("edition", "", there, f"play the {name} edition")


def _fewest(searcher: Searcher, problem: Problem) -> Iterator[Remedy]:
    """Yield the fewest wants to give up."""
    if fewest := fewest_to_give_up(searcher, problem):
        names = [want.mod for want in fewest]
        several = f"{', '.join(names[:-1])} and {names[-1]}" if names[1:] else names[0]
        commands = "; ".join(f"rellum drop {name}" for name in names)
        yield Remedy(kind="drop", text=f"drop {several}", command=commands)
