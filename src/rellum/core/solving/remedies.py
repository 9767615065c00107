"""Remedies when there is no line-up. Each was tried, and gives one.

From the cheapest: let a want's range or a hold go, take a pre-release, trust what was tried; then
another version of the game; then an expansion or another edition; then giving up mods.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal

from rellum.core.solving import causes
from rellum.core.solving.giving_up import fewest_to_give_up
from rellum.core.solving.problem import Hold, Problem, Want
from rellum.core.solving.prover import OutOfWork, Work
from rellum.core.solving.refusal import Refusal, without
from rellum.core.solving.search import Found, Searcher
from rellum.core.solving.sentences import want_words
from rellum.core.solving.solve import chosen_releases
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range

RemedyKind = Literal[
    "widen", "let-go", "pre-release", "trust", "game", "expansion", "edition", "drop"
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """A change with which there is a line-up. ``command`` does it, empty where none can."""

    kind: RemedyKind
    text: str
    command: str = ""


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
    parts = refusal.reason.causes
    for want in refusal.wants:
        if not want.range.is_any:
            yield from _widened(searcher, problem, want)
    for cause in parts:
        if isinstance(cause, causes.Held):
            yield from _let_go(searcher, problem, cause.hold)
    for cause in parts:
        if isinstance(cause, causes.Prerelease):
            yield from _with_prerelease(searcher, problem, cause.variable.mod.id)
    if problem.trust == "declared" and any(t.outcome == "works" for t in problem.trials):
        tried = replace(problem, trust="tried")
        if isinstance(_fresh(searcher, tried).search(tried), Found):
            text = "trust what was tried, too"
            yield Remedy(kind="trust", text=text, command="rellum decide trust tried")
    if any(isinstance(cause, (causes.GameIs, causes.Broke)) for cause in parts):
        yield from _other_games(searcher, problem)
    for cause in parts:
        if isinstance(cause, causes.ExpansionIs):
            yield from _other_expansion(searcher, problem, cause)
        if isinstance(cause, causes.EditionIs):
            yield from _other_editions(searcher, problem)
    yield from _fewer(searcher, problem, refusal)


def _fresh(searcher: Searcher, problem: Problem) -> Searcher:
    """Return a searcher for what another one cannot answer, with the same work."""
    other = Searcher(problem)
    other.work = searcher.work
    return other


def _widened(searcher: Searcher, problem: Problem, want: Want) -> Iterator[Remedy]:
    """Let a want go outside its range: to the release that would then be chosen."""
    anything = replace(want, range=parse_range("*", problem.catalog.ordering(want.mod)))
    wants = tuple(anything if each is want else each for each in problem.wants)
    found = searcher.search(replace(problem, wants=wants))
    if isinstance(found, Found) and (release := chosen_releases(searcher, found).get(want.mod)):
        lower = all(release.version.key < low.key for low, _ in want.range.intervals)
        yield Remedy(
            kind="widen",
            text=f"let {want.mod} go {'down ' if lower else ''}to {release.version}",
            command=f"rellum want {want.mod} '{want.range} | {release.version}'",
        )


def _let_go(searcher: Searcher, problem: Problem, hold: Hold) -> Iterator[Remedy]:
    free = replace(problem, holds=tuple(each for each in problem.holds if each is not hold))
    found = searcher.search(free)
    if isinstance(found, Found):
        release = chosen_releases(searcher, found).get(hold.mod)
        then = f"; it would be {release.version}" if release else ""
        yield Remedy(
            kind="let-go",
            text=f"let go of the hold on {hold.mod}{then}",
            command=f"rellum hold {hold.mod} --off",
        )


def _with_prerelease(searcher: Searcher, problem: Problem, mod: ModId) -> Iterator[Remedy]:
    releases = problem.catalog.mods[mod].releases
    newest = next(each for each in releases if each.version.is_prerelease)
    text = f">={newest.version}"
    range_ = parse_range(text, problem.catalog.ordering(mod))
    before = next((each for each in problem.wants if each.mod == mod), None)
    source = before.source if before else problem.wants[0].source
    asked = Want(mod=mod, range=range_, source=source)
    others = tuple(each for each in problem.wants if each.mod != mod)
    asking = replace(problem, wants=(*others, asked))
    if isinstance(_fresh(searcher, asking).search(asking), Found):
        yield Remedy(
            kind="pre-release",
            text=f"take the pre-release {mod} {newest.version}",
            command=f"rellum want {mod} '{text}'",
        )


def _other_games(searcher: Searcher, problem: Problem) -> Iterator[Remedy]:
    """Other versions of the game, the nearest first."""
    known = searcher.surroundings.games
    here = known.index(problem.games[0])
    for version in sorted(known, key=lambda each: abs(known.index(each) - here)):
        if version in problem.games:
            continue
        if isinstance(searcher.search(replace(problem, games=(version,))), Found):
            move = "go back to" if version < problem.games[0] else "move to"
            yield Remedy(kind="game", text=f"{move} game {version}")


def _other_expansion(
    searcher: Searcher, problem: Problem, cause: causes.ExpansionIs
) -> Iterator[Remedy]:
    name = cause.expansion
    others = tuple(each for each in problem.expansions if each != name)
    changed = others if cause.there else (*others, name)
    if isinstance(searcher.search(replace(problem, expansions=changed)), Found):
        text = f"play without the expansion {name}" if cause.there else f"get the expansion {name}"
        yield Remedy(kind="expansion", text=text)


def _other_editions(searcher: Searcher, problem: Problem) -> Iterator[Remedy]:
    for name in searcher.surroundings.editions:
        if name != problem.edition and isinstance(
            searcher.search(replace(problem, edition=name)), Found
        ):
            yield Remedy(kind="edition", text=f"play the {name} edition")


def _fewer(searcher: Searcher, problem: Problem, refusal: Refusal) -> Iterator[Remedy]:
    single = False
    for want in refusal.wants:
        if isinstance(searcher.search(without(problem, want)), Found):
            single = True
            yield Remedy(
                kind="drop",
                text=f"drop {want_words(want)}",
                command=f"rellum drop {want.mod}",
            )
    if not single and (fewest := fewest_to_give_up(searcher, problem)):
        names = [want.mod for want in fewest]
        yield Remedy(
            kind="drop",
            text=f"drop {', '.join(names[:-1])} and {names[-1]}"
            if names[1:]
            else f"drop {names[0]}",
            command="; ".join(f"rellum drop {name}" for name in names),
        )
