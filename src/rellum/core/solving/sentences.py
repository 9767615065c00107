"""Causes in words, each with its place in the files, in an order in which each leads to the next.

It looks nothing up: everything is in the causes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rellum.core.catalog.model import OptionChoice, Release
from rellum.core.catalog.open_lines import MARK
from rellum.core.solving import causes
from rellum.core.solving.causes import Cause
from rellum.core.solving.problem import Statement, Want
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Version


def tell(found: Iterable[Cause], *known: ModId) -> tuple[Statement, ...]:
    """Return the sentences for some causes: from each want along what it leads to.

    ``known`` are mods that were spoken of already: what their releases say comes first.
    """
    ordered = _in_order([*found], set(known))
    return tuple(statement for cause in ordered for statement in _sentences(cause))


def _in_order(found: list[Cause], known: set[ModId]) -> list[Cause]:
    """Follow the wants, and from each mod what its releases say; what the game is comes last."""
    waiting = sorted(found, key=_rank)
    ordered: list[Cause] = []
    while waiting:
        following = next((each for each in waiting if _subject(each) in known), None)
        cause = following or waiting[0]
        waiting.remove(cause)
        ordered.append(cause)
        known |= _speaks_of(cause)
    return ordered


def _rank(cause: Cause) -> int:
    if isinstance(cause, (causes.Wanted, causes.Held, causes.OptionWanted, causes.Supposed)):
        return 0
    return 1 if isinstance(cause, causes.OfReleases) else 2


def _subject(cause: Cause) -> ModId | None:
    if isinstance(cause, causes.OfReleases):
        return cause.variable.id
    return cause.mod if isinstance(cause, causes.NoCard) else None


def _speaks_of(cause: Cause) -> set[ModId]:
    """Return the mods whose statements may follow."""
    if isinstance(cause, (causes.Wanted, causes.OptionWanted)):
        return {cause.want.mod}
    if isinstance(cause, causes.Held):
        return {cause.hold.mod}
    if isinstance(cause, causes.Supposed):
        return {cause.release.mod}
    if isinstance(cause, causes.Needs):
        return {each.mod for each in cause.need.any_of}
    if isinstance(cause, causes.Clashes):
        return {cause.stand_in or cause.clash.other.mod}
    return set()


def mods_of(cause: Cause) -> set[ModId]:
    """Return the mods that a statement names."""
    if isinstance(cause, causes.LoadsInCircle):
        return {mod for each in cause.hints for mod in (each.variable.id, each.other)}
    subject = _subject(cause)
    return _speaks_of(cause) | ({subject} if subject else set())


def _sentences(cause: Cause) -> Iterator[Statement]:
    if isinstance(cause, causes.OfReleases):
        yield _of_releases(cause)
    elif isinstance(cause, causes.Wanted):
        yield Statement(text=f"the pack wants {want_words(cause.want)}", source=cause.want.source)
    elif isinstance(cause, causes.OptionWanted):
        chosen = ", ".join(cause.choices) or "none"
        text = f"the pack wants {cause.want.mod} with {cause.group} = {chosen}"
        yield Statement(text=text, source=cause.want.source)
    elif isinstance(cause, causes.Held):
        hold = cause.hold
        reason = f" ({hold.reason})" if hold.reason else ""
        yield Statement(
            text=f"the pack holds {hold.mod} at {hold.version}{reason}", source=hold.source
        )
    elif isinstance(cause, causes.Broke):
        yield broke(cause)
    elif isinstance(cause, causes.OptionFor):
        yield _of_option(cause)
    elif isinstance(cause, causes.LoadsInCircle):
        yield from (_of_releases(each) for each in cause.hints)
    else:
        yield Statement(text=_of_the_game(cause), source=None)


def want_words(want: Want) -> str:
    """Return a want as messages name it."""
    return want.mod if want.range.is_any else f"{want.mod} {want.range}"


def broke(cause: causes.Broke) -> Statement:
    """Say that some releases broke together."""
    trial = cause.trial
    which = " and ".join(f"{mod} {version}" for mod, version in trial.releases[:4])
    more = f" and {len(trial.releases) - 4} more" if len(trial.releases) > 4 else ""
    note = f": {trial.note}" if trial.note else ""
    together = " together" if len(trial.releases) > 1 else ""
    text = f"{which}{more} broke{together} on game {trial.game}, tried {trial.date}{note}"
    return Statement(text=text, source=trial.source)


def _of_option(cause: causes.OptionFor) -> Statement:
    mod, group, choice = cause.mod.id, cause.group, cause.choice
    if choice is None:
        return Statement(text=f"{mod} has the option {group.id}", source=group.source)
    with_which = "any release" if choice.releases == "*" else choice.releases
    text = f"{mod}'s option {group.id} = {choice.id} goes with {with_which}"
    return Statement(text=text, source=choice.source)


def _of_the_game(cause: Cause) -> str:
    if isinstance(cause, causes.GameIs):
        return f"the game is {versions_text(cause.versions)}"
    if isinstance(cause, causes.EditionIs):
        return f"the game is {cause.edition or 'of no known'} edition"
    if isinstance(cause, causes.ExpansionIs):
        verb = "has" if cause.there else "does not have"
        return f"the game {verb} the expansion {cause.expansion}"
    if isinstance(cause, causes.NoCard):
        return f"no card in the catalog is for {cause.mod}"
    if isinstance(cause, causes.Supposed):
        return f"suppose that {cause.release.name} is taken"
    raise TypeError(type(cause).__name__)


def versions_text(versions: Sequence[Version]) -> str:
    """Return versions as a list in words."""
    texts = [version.text for version in versions]
    return texts[0] if len(texts) == 1 else f"{', '.join(texts[:-1])} or {texts[-1]}"


def _of_releases(cause: causes.OfReleases) -> Statement:
    """Put what some releases of a mod say into a sentence."""
    releases = cause.releases
    said, key, option = _what_they_say(cause)
    every = len(releases) == len(cause.variable.mod.releases)
    plural = len(releases) > 1 and not every and option is None
    who = releases_text(cause) if option is None else f"{releases[0].mod} with {option.id}"
    verb, _, rest = said.partition(" ")
    if plural:
        verb, rest = _PLURAL.get(verb, verb), rest.replace("a pre-release", "pre-releases")
    source = option.source.at(*key) if option else releases[0].source.at(*key)
    return Statement(text=f"{who} {verb} {rest}{_only(cause)}", source=source)


_PLURAL = {"needs": "need", "clashes": "clash", "is": "are", "goes": "go", "forbids": "forbid",
           "loads": "load",
           "was": "were"}  # fmt: skip

Said = tuple[str, tuple[str | int, ...], OptionChoice | None]


def _what_they_say(cause: causes.OfReleases) -> Said:
    """Return what is said (of one), the keys under which it stands, and the option that says it."""
    first = cause.releases[0]
    if isinstance(cause, causes.Needs):
        return f"needs {cause.need}", cause.need.key, cause.option
    if isinstance(cause, causes.Clashes):
        reason = f" ({cause.clash.reason})" if cause.clash.reason else ""
        stand_in = f", for which {cause.stand_in} stands in" if cause.stand_in else ""
        return f"clashes with {cause.clash.other}{stand_in}{reason}", cause.clash.key, cause.option
    if isinstance(cause, causes.ForGame):
        tried = "".join(f", and {trial}" for trial in cause.trials)
        return f"is for game {cause.game}{tried}", ("game",), cause.option
    if isinstance(cause, causes.ForEditions):
        return f"is for the edition {' or '.join(cause.editions)}", ("editions",), None
    if isinstance(cause, causes.ForExpansion):
        verb = "needs" if cause.needed else "forbids"
        return f"{verb} the expansion {cause.expansion}", ("expansions", verb), cause.option
    if isinstance(cause, causes.ForVariant):
        made = cause.made_for
        return f"goes only on {made.mod} {' or '.join(made.variants)}", made.key, None
    if isinstance(cause, causes.Prerelease):
        return "is a pre-release, taken only where a want or hold names one", ("version",), None
    if isinstance(cause, causes.Unfinished):
        return f"is not finished in its card: see '{MARK}' in {first.first_open}", (), None
    if isinstance(cause, causes.LoadsAfter):
        which = "after" if cause.is_after else "before"
        return f"loads {which} {cause.other}", ("load", which), None
    assert isinstance(cause, causes.Withdrawn)
    return f"was withdrawn: {first.withdrawn}", ("withdrawn",), None


def _only(cause: causes.OfReleases) -> str:
    """Say which releases there are, where none meets a need."""
    if not isinstance(cause, causes.Needs) or cause.there is None:
        return ""
    if not cause.there:
        return ", for which there is no card"
    return f", which has only {', '.join(cause.there)}"


def releases_text(cause: causes.OfReleases) -> str:
    """Name some releases of a mod: each, from one to another, or every one."""
    mod = cause.variable.mod
    chosen = set(map(id, cause.releases))
    if len(chosen) == len(mod.releases) > 1:
        return f"every release of {mod.id}"
    if len(chosen) == 1:
        return cause.releases[0].name
    oldest_first = list(reversed(mod.releases))
    runs: list[list[Release]] = []
    for at, release in enumerate(oldest_first):
        if id(release) not in chosen:
            continue
        if runs and at and id(oldest_first[at - 1]) in chosen:
            runs[-1].append(release)
        else:
            runs.append([release])
    parts = []
    for run in runs:
        if len(run) > 2:
            parts.append(f"{run[0].label} to {run[-1].label}")
        else:
            parts += [each.label for each in run]
    return (
        f"{mod.id} {', '.join(parts[:-1])} and {parts[-1]}" if parts[1:] else f"{mod.id} {parts[0]}"
    )
