"""Why a mod, or one release of it, is in the line-up or not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Final

from rellum.core.actions.match.wants import find_release_version
from rellum.core.catalog.card_store import may_name
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Mod, Release
from rellum.core.catalog.release_rules import Source
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.composing.pack_problem import PackProblem, problem_of
from rellum.core.pack.lock_file import LockedRelease
from rellum.core.solving.newer_releases import brief, tell_outcome
from rellum.core.solving.problem import Problem, Statement, Want
from rellum.core.solving.prover import Work
from rellum.core.solving.reasons import READABLE
from rellum.core.solving.sentences import want_words
from rellum.core.solving.suppose import Outcome, Releases, Supposer
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range
from rellum.core.versions.version import Version

_OVERVIEW: Final = 600_000
"""The work on the statements against several releases together, in looks at clauses."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseAnswer:
    """What taking a release would do: in brief, and sentence by sentence where it cannot be.

    ``direct`` are the statements that speak of the release itself, ``statements`` all that cannot hold with
    it: None where they were not sought.
    """

    release: Release
    outcome: Outcome
    brief: str
    direct: tuple[Statement, ...]
    statements: tuple[Statement, ...] | None


@dataclass(frozen=True, slots=True, kw_only=True)
class WhyAnswer:
    """Why a mod is in the line-up (``chosen``), or not.

    ``asked_by`` say who wants or needs it and in which range, ``fixed_by`` what else its version
    rests on; ``answers`` are about other releases: all newer ones, or the one asked about.
    """

    mod: ModId
    chosen: LockedRelease | None
    release: Release | None
    asked_by: tuple[Statement, ...]
    fixed_by: tuple[Statement, ...]
    answers: tuple[ReleaseAnswer, ...]


def why(request: Request, mod_id: str, version: str = "") -> WhyAnswer:
    """Explain a mod, or one version of it. Raises UnknownMod, UnknownRelease, NoLineUpExists.

    Of several releases the statements are sought, the newest first, as far as a little work goes.
    """
    with open_pack(request) as opened:
        asked = problem_of(opened, fresh=())
        mod = find_mod(asked.catalog, mod_id)
        which = find_release_version(mod, version) if version else None
        return _explain(asked, mod, which)


def _explain(asked: PackProblem, mod: Mod, which: Version | None) -> WhyAnswer:
    locked = {each.mod: each for each in asked.lock.releases} if asked.lock else {}
    now = asked.releases_now()
    chosen, release = locked.get(mod.id), now.get(mod.id)
    problem = asked.problem
    if release is None and mod.id not in {want.mod for want in problem.wants}:
        problem = _wanting(problem, mod)
    others = [
        each
        for each in mod.releases
        if (each.version == which if which else release is None or each.version > release.version)
        and each is not release
    ]
    answers = _answers(problem, now, others, None if which else Work(_OVERVIEW))
    return WhyAnswer(
        mod=mod.id,
        chosen=chosen,
        release=release,
        asked_by=tuple(_asked_by(asked, mod.id, now)),
        fixed_by=tuple(_fixed_by(asked, release)) if release else (),
        answers=tuple(answers) if others else (),
    )


def _answers(
    problem: Problem, now: Releases, releases: Sequence[Release], work: Work | None
) -> Iterator[ReleaseAnswer]:
    """Yield what taking each release would do; with all that stands against it, while there is work left."""
    supposer = Supposer(problem, now)
    for each in releases:
        left_out = supposer.left_out(each)
        quick = left_out or supposer.quickly(each)
        told: Outcome | None = quick
        if quick.reason is not None and left_out is None:
            told = None
            if work is None or not supposer.costs_more_than(work.left):
                told = supposer.in_full(each, work)
                if work is not None and work.left <= 0:
                    told = None  # it was not brought to its end
        statements = None if told is None else tell_outcome(told)
        is_short = statements is not None and len(statements) <= READABLE
        yield ReleaseAnswer(
            release=each,
            outcome=quick,
            brief=brief(told if told and is_short else quick),
            direct=tell_outcome(quick),
            statements=statements,
        )


def _wanting(problem: Problem, mod: Mod) -> Problem:
    """Return the problem with a mod wanted beside all that is wanted."""
    range_ = parse_range("*", mod.ordering)
    added = Want(mod=mod.id, range=range_, source=Source(file=mod.source.file))
    return replace(problem, wants=(*problem.wants, added))


def _asked_by(asked: PackProblem, mod_id: ModId, now: Releases) -> Iterator[Statement]:
    """Yield who wants or needs a mod; each with its place."""
    for want in asked.problem.wants:
        if want.mod == mod_id:
            optional = ", if a release fits" if want.optional else ""
            text = f"the pack wants {want_words(want)}{optional}"
            yield Statement(text=text, source=want.source)
    meant = {mod_id, *(offer.mod for offer in now[mod_id].offers)} if mod_id in now else {mod_id}
    for mod in now:
        if not any(may_name(asked.catalog, mod, each) for each in meant):
            continue  # and needs not be read
        release = now[mod]
        for need in release.needs:
            if any(each.mod in meant for each in need.any_of):
                text = f"{release.name} needs {need}"
                yield Statement(text=text, source=release.source.at(*need.key))


def _fixed_by(asked: PackProblem, release: Release) -> Iterator[Statement]:
    """Yield what holds the release where it is: a hold, the line-up that stands, its game, a trial."""
    for hold in asked.problem.holds:
        if hold.mod == release.mod:
            text = f"the pack holds it at {hold.version} ({hold.reason})"
            yield Statement(text=text, source=hold.source)
    chosen = (
        next((each for each in asked.lock.releases if each.mod == release.mod), None)
        if asked.lock
        else None
    )
    if release.game is not None and not parse_range(release.game).is_any:
        text = f"{release.name} is for game {release.game}"
        if asked.identity.version not in parse_range(release.game):
            text += f", and the game is {asked.identity.version}: its card said otherwise when it was chosen"
            text += "" if chosen and chosen.trial else "; 'rellum resolve' chooses anew"
        yield Statement(text=text, source=release.source.at("game"))
    if chosen and chosen.trial:
        yield Statement(
            text=f"this game version is outside that range; a trial allows it: {chosen.trial}",
            source=None,
        )
