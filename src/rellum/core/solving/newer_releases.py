"""Releases newer than those in the line-up, and what each would change."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from rellum.core.catalog.model import Release
from rellum.core.solving import causes
from rellum.core.solving.problem import Problem, Statement
from rellum.core.solving.prover import Work
from rellum.core.solving.refusal import Reason
from rellum.core.solving.sentences import tell
from rellum.core.solving.suppose import Outcome, Releases, Supposer
from rellum.core.values.ids import ModId

BRIEF = 60
"""Reasons of more statements are not told: 'why' tells that of one release."""
_WORK = 200_000
"""The work on the reason against one release, in looks at clauses; 'why' does more."""


@dataclass(frozen=True, slots=True, kw_only=True)
class NewRelease:
    """A release newer than the one in the line-up, and what would come of taking it.

    ``size`` in bytes is that of its own archives, None where a card does not tell. ``statements``
    are left out where they were not sought, or are too many to read: 'why' tells them.
    """

    now: Release
    outcome: Outcome
    size: int | None
    statements: tuple[Statement, ...]
    brief: str

    @property
    def release(self) -> Release:
        """The newer release."""
        return self.outcome.release


def find_news(
    problem: Problem, now: Releases, mods: Iterable[ModId], *, tells: bool = True
) -> Iterator[NewRelease]:
    """Yield, mod by mod, the newer releases from the newest down to the first that can be taken.

    ``tells``: the statements against each release are sought; without, it is only said what keeps it out.
    """
    supposer = Supposer(problem, now)
    for mod in mods:
        variable = supposer.variable(mod)
        if variable is None:
            continue
        current = now[mod]
        newer = [each for each in variable.book.versions(mod) if each > current.version]
        for version in dict.fromkeys(newer):
            builds = variable.releases(variable.mask_of_version(version))
            told = outcome = _best_build(supposer, builds)
            if outcome.reason is not None and tells:
                release = outcome.release
                told = supposer.left_out(release) or supposer.in_full(release, Work(_WORK))
            yield _as_news(current, outcome, told)
            if outcome.reason is None:
                break


def _best_build(supposer: Supposer, builds: Iterable[Release]) -> Outcome:
    """Return the outcome of the first build of a version that can be taken, else of the first."""
    outcomes = map(supposer.quickly, builds)
    first = next(outcomes)
    if first.reason is None:
        return first
    return next((each for each in outcomes if each.reason is None), first)


def _as_news(current: Release, outcome: Outcome, told: Outcome) -> NewRelease:
    """Put an outcome into words beside the release that is in the line-up.

    ``told`` is the same with its reason sought.
    """
    release = outcome.release
    sizes = [file.size for file in release.files]
    return NewRelease(
        now=current,
        outcome=outcome,
        size=None if None in sizes else sum(size for size in sizes if size is not None),
        statements=tell_outcome(told) if told is not outcome and _is_short(told) else (),
        brief=brief(told if _is_short(told) else outcome),
    )


def _is_short(outcome: Outcome) -> bool:
    return outcome.reason is None or len(outcome.reason.causes) <= BRIEF


def tell_outcome(outcome: Outcome) -> tuple[Statement, ...]:
    """Return the sentences that say why a release cannot be taken; none where it can."""
    found = outcome.reason.causes if outcome.reason else ()
    beside = [each for each in found if not _is_met_by(each, outcome.release)]
    return tell(beside, outcome.release.mod)


def _is_met_by(cause: causes.Cause, release: Release) -> bool:
    """Whether a cause only says that the release is there, or asks for its mod and is content with it."""
    if isinstance(cause, causes.Wanted):
        return cause.want.mod == release.mod and release.version in cause.want.range
    return isinstance(cause, causes.Supposed)


def brief(outcome: Outcome) -> str:
    """Say in a few words what taking a release would do."""
    if outcome.reason is not None:
        return _blocked(outcome.release, outcome.reason)
    if not outcome.changes:
        return "free to take"
    parts = []
    for change in outcome.changes:
        if change.after is None:
            parts.append(f"{change.mod} would leave")
        elif change.before is None:
            parts.append(f"brings in {change.after.name}")
        else:
            parts.append(f"{change.mod} {change.before.label} would be {change.after.label}")
    return "; ".join(parts[:3]) + (f"; and {len(parts) - 3} more" if len(parts) > 3 else "")


def _blocked(release: Release, reason: Reason) -> str:
    """Name what keeps a release out: its own condition, or the mod that asks for another."""
    own = [
        each
        for each in reason.causes
        if isinstance(each, causes.OfReleases) and release in each.releases
    ]
    for cause in own:
        if isinstance(cause, causes.ForGame):
            return f"is for game {cause.game}"
        if isinstance(cause, causes.ForExpansion):
            verb = "needs" if cause.needed else "forbids"
            return f"{verb} the expansion {cause.expansion}"
        if isinstance(cause, causes.ForEditions):
            return f"is for the edition {' or '.join(cause.editions)}"
        if isinstance(cause, causes.Withdrawn):
            return f"withdrawn: {release.withdrawn}"
        if isinstance(cause, causes.Unfinished):
            return f"not finished in its card: {release.first_open}"
        if isinstance(cause, causes.Prerelease):
            return "a pre-release; name one in a range to get it"
    for held in reason.causes:
        if _is_met_by(held, release):
            continue
        if isinstance(held, causes.Held) and held.hold.mod == release.mod:
            return f"held at {held.hold.version}: {held.hold.reason}"
        if isinstance(held, causes.Wanted) and held.want.mod == release.mod:
            return f"the pack wants {held.want.mod} {held.want.range}"
        if isinstance(held, causes.Broke):
            return f"broke on game {held.trial.game}, tried {held.trial.date}"
    others = [
        each
        for each in reason.causes
        if isinstance(each, causes.OfReleases) and release not in each.releases
    ]
    for cause in others:
        who = cause.variable.id
        if isinstance(cause, causes.Needs) and cause.need.any_of[0].mod == release.mod:
            return f"blocked by {who}, which needs {cause.need}"
        if isinstance(cause, causes.Clashes) and cause.clash.other.mod == release.mod:
            return f"blocked by {who}, which clashes with {cause.clash.other}"
    for cause in own:
        if isinstance(cause, causes.Needs):
            return f"needs {cause.need}"
        if isinstance(cause, causes.Clashes):
            return f"clashes with {cause.clash.other}"
    return "cannot be had beside what the pack asks for"
