"""Small random catalogs with everything a card can say, and the answer by trying all line-ups."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import replace
from random import Random

from rellum.core.catalog.model import (
    Catalog,
    Clash,
    GameSheet,
    MadeFor,
    Mod,
    Need,
    Offer,
    OptionChoice,
    OptionGroup,
    Release,
    Requirement,
    Trial,
)
from rellum.core.catalog.release_rules import Source
from rellum.core.solving.load_order import Hint
from rellum.core.solving.problem import Hold, Locked, Problem, Want
from rellum.core.solving.trial_book import TrialBook
from rellum.core.values.ids import ModId, SheetId
from rellum.core.versions.orderings import DOTTED, Ordering, parse_version
from rellum.core.versions.ranges import parse_range
from rellum.core.versions.version import Version

HERE = Source(file="cards/x.toml", key=())
GAMES = tuple(map(parse_version, ("1.5", "1.6", "1.7")))
LineUp = dict[ModId, Release]


def requirement(mod: str, text: str = "*") -> Requirement:
    return Requirement(ModId(mod), text)


def need(mod: str, text: str = "*") -> Need:
    return Need((requirement(mod, text),))


def clash(mod: str, text: str = "*") -> Clash:
    return Clash(requirement(mod, text))


def release(mod: str, version: str, **said) -> Release:
    return Release(mod=ModId(mod), version=parse_version(version), source=HERE, **said)


def catalog(*releases: Release, options=None) -> Catalog:
    by_mod: dict[ModId, list[Release]] = {}
    for each in releases:
        by_mod.setdefault(each.mod, []).append(each)
    mods = {
        mod: Mod(
            id=mod,
            name=mod,
            kind="mod",
            licence="",
            ordering=DOTTED,
            releases=tuple(sorted(found, key=lambda r: r.version, reverse=True)),
            options=(options or {}).get(mod, ()),
            source=HERE,
        )
        for mod, found in by_mod.items()
    }
    offered: dict[ModId, tuple[ModId, ...]] = {}
    for each in releases:
        for offer in each.offers:
            if each.mod not in offered.get(offer.mod, ()):
                offered[offer.mod] = (*offered.get(offer.mod, ()), each.mod)
    sheet = GameSheet(
        id=SheetId("g"), name="g", marks=(), version_rules=(), edition_rules=(),
        expansion_rules=(), known_versions=GAMES, places={}, own_files=(), source=HERE,
    )  # fmt: skip
    orderings: dict[str, Ordering] = dict.fromkeys(mods, DOTTED)
    return Catalog(
        folders=(),
        sheet=sheet,
        mods=mods,
        orderings=orderings,
        offered=offered,
        trials=(),
    )


def wanting(mod: str, text: str = "*", **said) -> Want:
    return Want(mod=ModId(mod), range=parse_range(text), source=HERE, **said)


def holding(mod: str, version: str) -> Hold:
    return Hold(mod=ModId(mod), version=parse_version(version), reason="so", source=HERE)


def problem(cards: Catalog, *wants: Want, **said) -> Problem:
    values = {"games": (parse_version("1.6"),), "edition": "boxed", "expansions": ("ice",)}
    return Problem(**{**values, "wants": wants, "holds": (), "catalog": cards, **said})


_RANGES = ["*", "1", "2", ">=2", "<2", ">=3", "<=2", "!=2"]


def random_problem(source: Random, most: int = 6) -> Problem:
    """Draw a problem with up to so many mods."""
    names = "abcdefg"[: source.randint(2, most)]
    cards = catalog(*(each for mod in names for each in _random_releases(source, mod, names)))
    trials = tuple(
        _random_trial(source, cards, number) for number in range(source.choice([0, 0, 1, 2]))
    )
    some = [cards.mods[ModId(mod)] for mod in source.sample(names, len(names))]
    locked = {}
    for mod in some:
        if source.random() < 0.2:
            kept = source.choice(mod.releases)
            locked[mod.id] = Locked(version=kept.version, build=kept.build)
    return problem(
        cards,
        *(
            wanting(mod, source.choice(["*", "*", ">=2", "<=2"]), optional=source.random() < 0.25)
            for mod in source.sample(names, source.randint(1, min(4, len(names))))
        ),
        games=source.choice([GAMES[1:2], GAMES[1:2], GAMES[::-1], (GAMES[1], GAMES[2])]),
        edition=source.choice(["boxed", None]),
        expansions=source.choice([("ice",), ("deep",), ()]),
        holds=tuple(
            holding(mod.id, source.choice(mod.releases).version.text)
            for mod in some
            if source.random() < 0.08
        ),
        trials=trials,
        trust=source.choice(["declared", "tried"]),
        locked=locked,
    )


def _random_releases(source: Random, mod: str, names: str) -> Iterator[Release]:
    others = [name for name in names if name != mod]
    for number in range(1, source.randint(1, 4) + 1):
        version = f"{number}{'-beta' if source.random() < 0.08 else ''}"
        for build in [""] if source.random() < 0.9 else ["x", "y"]:
            needs = []
            for index in range(source.choice([0, 0, 1, 1, 2])):
                several = source.sample(others, min(len(others), source.choice([1, 1, 1, 2])))
                several += ["nowhere"] * (source.random() < 0.05)
                any_of = tuple(requirement(each, source.choice(_RANGES)) for each in several)
                needs.append(Need(any_of, index if len(any_of) > 1 else None))
            clashes = [clash(source.choice(others), source.choice(_RANGES))]
            clashes = [clashes[0]._replace(spares_stand_ins=source.random() < 0.3)]
            offers = [Offer(ModId(source.choice(others)), parse_version(str(source.randint(1, 3))))]
            variants = (source.choice("xy"),)
            yield release(
                mod,
                version,
                build=build,
                game=source.choice([None, None, None, None, ">=1.6", "<1.7", ">=1.7", "1.6"]),
                needs=tuple(needs),
                clashes=tuple(clashes) if source.random() < 0.25 else (),
                offers=tuple(offers) if source.random() < 0.25 else (),
                withdrawn="bad" if source.random() < 0.05 else "",
                expansions_needed=("ice",) if source.random() < 0.05 else (),
                expansions_forbidden=("deep",) if source.random() < 0.05 else (),
                editions=("boxed",) if source.random() < 0.05 else None,
                made_for=(MadeFor(ModId(source.choice(others)), variants),)
                if source.random() < 0.05
                else (),
                load_after=(ModId(source.choice(others)),) if source.random() < 0.12 else (),
                load_before=(ModId(source.choice(others)),) if source.random() < 0.12 else (),
            )


def with_random_options(source: Random, asked: Problem) -> Problem:
    """Give some mods option groups, and some wants a choice of them."""
    mods = dict(asked.catalog.mods)
    for mod in asked.catalog.mods.values():
        if source.random() < 0.5:
            others = [each for each in mods if each != mod.id]
            groups = tuple(
                _random_group(source, f"g{n}", others) for n in range(source.randint(1, 2))
            )
            mods[mod.id] = replace(mod, options=groups)
    wants = tuple(
        replace(
            want,
            options=tuple(
                (group.id, (source.choice(group.choices).id,))
                for group in mods[want.mod].options
                if source.random() < 0.4
            ),
        )
        for want in asked.wants
    )
    return replace(asked, catalog=replace(asked.catalog, mods=mods), wants=wants, locked={})


def _random_group(source: Random, name: str, others: list[ModId]) -> OptionGroup:
    choices = tuple(
        OptionChoice(
            id=f"c{number}",
            releases=source.choice(["*", "*", ">=2", "<2"]),
            game=source.choice([None, None, ">=1.6"]),
            needs=(need(source.choice(others)),) if source.random() < 0.3 else (),
            clashes=(clash(source.choice(others), "<2"),) if source.random() < 0.2 else (),
            source=HERE,
        )
        for number in range(source.randint(1, 3))
    )
    default = tuple(choice.id for choice in choices if source.random() < 0.4)
    if source.random() < 0.5:
        return OptionGroup(id=name, pick="any", default=default, choices=choices, source=HERE)
    return OptionGroup(id=name, pick="one", default=default[:1], choices=choices, source=HERE)


def _random_trial(source: Random, cards: Catalog, number: int) -> Trial:
    mods = source.sample(list(cards.mods.values()), min(len(cards.mods), source.randint(1, 2)))
    return Trial(
        outcome=source.choice(["works", "breaks"]),
        game=source.choice(GAMES),
        date=f"2026-01-0{number + 1}",
        releases=tuple((mod.id, source.choice(mod.releases).version.text) for mod in mods),
        note="",
        source=HERE,
    )


def best_by_trying_all(asked: Problem) -> tuple[LineUp, Version] | None:
    """Return the line-up that is first in the order of aims, and its game; None: there is none."""
    best = None
    choices = [[None, *mod.releases] for mod in asked.catalog.mods.values()]
    for combination in itertools.product(*choices):
        chosen = {each.mod: each for each in combination if each}
        for game in asked.games:
            if is_line_up(chosen, asked, game):
                rank = _rank(chosen, asked, game)
                if rank is not None and (best is None or rank < best[0]):
                    best = (rank, chosen, game)
    return best and best[1:]


def is_line_up(chosen: LineUp, asked: Problem, game: Version) -> bool:
    """Whether releases meet all that is asked and all that they say themselves."""
    for want in asked.wants:
        if want.mod in chosen and chosen[want.mod].version not in want.range:
            return False
        if want.mod not in chosen and not want.optional:
            return False
    for hold in asked.holds:
        if hold.mod in chosen and chosen[hold.mod].version != hold.version:
            return False
    book = TrialBook(asked.trials, asked.trust)
    if any(
        trial.game == game
        and all(m in chosen and chosen[m].version.text == v for m, v in trial.releases)
        for trial in book.breaking
    ):
        return False
    if not all(_holds(each, chosen, asked, game, book) for each in chosen.values()):
        return False
    return _can_be_ordered(chosen)


def _can_be_ordered(chosen: LineUp) -> bool:
    """Whether there is an order that all hints allow: one mod after another whose hints are met goes."""
    left = dict(chosen)
    while left:
        free = [
            mod
            for mod, each in left.items()
            if not any(other in left and other != mod for other in each.load_after)
            and not any(mod in other.load_before for other in left.values() if other is not each)
        ]
        if not free:
            return False
        for mod in free:
            del left[mod]
    return True


def is_said_in(hint: Hint, release: Release) -> bool:
    """Whether a release of the mod that gives a hint about the load order gives it."""
    if hint.by_later:
        return hint.earlier in release.load_after
    return hint.later in release.load_before


def is_hit(other: Release, clash: Clash, by: Release | None = None) -> bool:
    """Whether a clash is with a release, or with what it stands in for."""
    if other.mod == clash.other.mod:
        return other.version in parse_range(clash.other.range)
    return (
        not clash.spares_stand_ins
        and (by is None or other.mod != by.mod)
        and any(
            offer.mod == clash.other.mod and offer.version in parse_range(clash.other.range)
            for offer in other.offers
        )
    )


def _holds(each: Release, chosen: LineUp, asked: Problem, game: Version, book: TrialBook) -> bool:
    held = {(hold.mod, hold.version) for hold in asked.holds}
    named = any(
        h.mod == each.mod and h.version.release_key == each.version.release_key
        for h in asked.holds
        if h.version.is_prerelease
    )
    tried = any(trial.game == game for trial in book.working(each))
    return (
        (each.game is None or game in parse_range(each.game) or tried)
        and (each.editions is None or asked.edition in each.editions)
        and all(name in asked.expansions for name in each.expansions_needed)
        and not any(name in asked.expansions for name in each.expansions_forbidden)
        and (not each.withdrawn or (each.mod, each.version) in held)
        and (not each.version.is_prerelease or named)
        and all(any(_meets(chosen, r) for r in need.any_of) for need in each.needs)
        and not any(is_hit(other, c, each) for c in each.clashes for other in chosen.values())
        and all(m.mod not in chosen or chosen[m.mod].build in m.variants for m in each.made_for)
    )


def _meets(chosen: LineUp, wished: Requirement) -> bool:
    range_ = parse_range(wished.range)
    if wished.mod in chosen and chosen[wished.mod].version in range_:
        return True
    return any(
        offer.mod == wished.mod and offer.version in range_
        for each in chosen.values()
        if each.mod != wished.mod
        for offer in each.offers
    )


def _rank(chosen: LineUp, asked: Problem, game: Version) -> tuple[object, ...] | None:
    """Return where a line-up stands in the order of aims; None: it has what nobody needs."""
    moved = [
        mod in chosen and (chosen[mod].version, chosen[mod].build) != (kept.version, kept.build)
        for mod, kept in asked.locked.items()
    ]
    left_out = [want.mod not in chosen for want in asked.wants if want.optional]
    walk: list[tuple[int, int]] = []
    taken: LineUp = {}
    queue = [{want.mod: tuple(asked.catalog.mods[want.mod].releases)} for want in asked.wants]
    while queue:
        ways = queue.pop(0)
        if any(mod in taken and taken[mod] in good for mod, good in ways.items()):
            continue
        way = next(
            ((at, mod) for at, (mod, good) in enumerate(ways.items()) if chosen.get(mod) in good),
            None,
        )
        if way is None:
            continue  # an optional want that is left out
        taken[way[1]] = chosen[way[1]]
        releases = asked.catalog.mods[way[1]].releases
        walk.append((way[0], releases.index(chosen[way[1]])))
        queue += [_ways(asked.catalog, need) for need in chosen[way[1]].needs]
    if taken.keys() != chosen.keys():
        return None
    return moved, left_out, asked.games.index(game), walk


def _ways(cards: Catalog, wished: Need) -> dict[ModId, tuple[Release, ...]]:
    """Return the releases that meet a need, by mod, in the order in which they are preferred."""
    ways: dict[ModId, tuple[Release, ...]] = {}
    for each in wished.any_of:
        range_ = parse_range(each.range)
        if each.mod in cards.mods:
            found = tuple(r for r in cards.mods[each.mod].releases if r.version in range_)
            ways[each.mod] = ways.get(each.mod, ()) + found
        for other in cards.offered.get(each.mod, ()):
            if other != each.mod:
                offering = tuple(
                    r
                    for r in cards.mods[other].releases
                    if any(o.mod == each.mod and o.version in range_ for o in r.offers)
                )
                ways[other] = ways.get(other, ()) + offering
    return ways
