"""A catalog of a given size, made by code, with a pack that wants a part of it.

A line-up is planted: one release of every mod, chosen at random, that fits the game and meets every
need and clash. Everything else is drawn at random around it, so that the newest releases seldom go
together and a solver has to find out which do.
"""

from __future__ import annotations

import json
import os
import random
from dataclasses import dataclass, field

GAME_VERSIONS = tuple(f"1.{minor}.0" for minor in range(12))
GAME = 9
"""The index of the game's version in the pack."""


@dataclass(slots=True)
class WorldRelease:
    """A release: the game versions it is for (first and last index), its needs and its clashes.

    A need or a clash is a mod with the first and last index of its releases that are meant.
    """

    game: tuple[int, int]
    needs: list[tuple[int, int, int]] = field(default_factory=list)
    clashes: list[tuple[int, int, int]] = field(default_factory=list)


@dataclass(slots=True)
class CatalogWorld:
    """Mods, each a list of releases, oldest first; and the mods wanted."""

    mods: list[list[WorldRelease]]
    wants: list[int]
    planted: list[int]


def make_world(mods: int, releases: int, wants: int, clashes: int, seed: int = 1) -> CatalogWorld:
    """Draw a world; the same for the same numbers. Needs only go to mods of a higher number."""
    source = random.Random(seed)
    planted = [source.randrange(releases // 3, releases) for _ in range(mods)]
    world = CatalogWorld([], sorted(source.sample(range(mods), wants)), planted)
    for mod in range(mods):
        world.mods.append(_draw_releases(source, mod, mods, releases, planted))
    _draw_clashes(source, world, clashes)
    return world


def _draw_releases(
    source: random.Random, mod: int, mods: int, releases: int, planted: list[int]
) -> list[WorldRelease]:
    later = range(mod + 1, min(mods, mod + 1 + mods // 8))
    needed = source.sample(later, min(6, len(later)))
    drawn = []
    windows: dict[int, tuple[int, int]] = {}
    for number in range(releases):
        is_planted = number == planted[mod]
        first = max(0, number * len(GAME_VERSIONS) // releases - source.randrange(5))
        last = min(len(GAME_VERSIONS) - 1, first + source.randrange(4, 9))
        if is_planted:
            first, last = min(first, GAME), max(last, GAME)
        release = WorldRelease((first, last))
        if source.random() < 0.05 and len(later) > 6:
            needed = [*needed[1:], source.choice(later)]
        for other in dict.fromkeys(needed):
            if other not in windows or number % 3 == 0:
                low = max(0, min(releases - 2, number - source.randrange(2, 7)))
                windows[other] = (low, min(releases - 1, low + source.randrange(5, 12)))
            low, high = windows[other]
            if is_planted:
                low, high = min(low, planted[other]), max(high, planted[other])
            release.needs.append((other, low, high))
        drawn.append(release)
    return drawn


def _draw_clashes(source: random.Random, world: CatalogWorld, count: int) -> None:
    releases = len(world.mods[0])
    while count:
        one, two = source.sample(range(len(world.mods)), 2)
        low = source.randrange(releases)
        high = min(releases - 1, low + source.randrange(1, 5))
        first = source.randrange(releases)
        which = range(first, min(releases, first + source.randrange(1, 5)))
        if world.planted[one] in which and low <= world.planted[two] <= high:
            continue
        for number in which:
            world.mods[one][number].clashes.append((two, low, high))
        count -= 1


def add_impossible_chain(world: CatalogWorld, length: int = 7) -> tuple[int, int, list[int]]:
    """Make two wants impossible together by a chain of new mods; return both and the chain.

    The first want needs the chain's first mod, each of the chain the next, and the last the newest
    release of a mod of which the second want needs another.
    """
    one, two = world.wants[len(world.wants) // 3], world.wants[2 * len(world.wants) // 3]
    releases = len(world.mods[0])
    chain = list(range(len(world.mods), len(world.mods) + length))
    everything = (0, len(GAME_VERSIONS) - 1)
    for position in range(length):
        following = chain[position + 1] if position + 1 < length else None
        needs = [(following, 0, releases - 1)] if following is not None else []
        if position + 2 == length:
            needs = [(chain[-1], releases - 1, releases - 1)]
        world.mods.append([WorldRelease(everything, list(needs)) for _ in range(releases)])
        world.planted.append(releases - 1)
    for release in world.mods[one]:
        release.needs.append((chain[0], 0, releases - 1))
    for release in world.mods[two]:
        release.needs.append((chain[-1], 0, releases - 2))
    return one, two, chain


def version(number: int) -> str:
    """Return the version of a release by its index, oldest first."""
    return f"{1 + number // 5}.{number % 5}"


def range_text(low: int, high: int, releases: int) -> str:
    """Return the range from one release to another, by their indexes."""
    terms = [f">={version(low)}"] if low else []
    if high < releases - 1:
        terms.append(f"<={version(high)}")
    return ", ".join(terms) or "*"


def name(mod: int) -> str:
    """Return the id of a mod by its number."""
    return f"mod-{mod:04}"


def card_text(mod: int, releases: list[WorldRelease]) -> str:
    """Return a mod's card, as a curator would write it."""
    lines = [
        "[mod]",
        f'id = "{name(mod)}"',
        f'name = "Mod {mod}"',
        'licence = "CC-BY-4.0"',
        'versions = "dotted"',
    ]
    for number, release in enumerate(releases):
        first, last = release.game
        archive = f"{name(mod)}-{version(number)}.zip"
        lines += [
            "",
            "[[release]]",
            f'version = "{version(number)}"',
            f'game = ">={GAME_VERSIONS[first]}, <={GAME_VERSIONS[last]}"',
        ]
        for key, said in (("needs", release.needs), ("clashes", release.clashes)):
            merged = {
                name(other): range_text(low, high, len(releases)) for other, low, high in said
            }
            if merged:
                inside = ", ".join(
                    f"{other} = {json.dumps(text)}" for other, text in merged.items()
                )
                lines.append(f"{key} = {{ {inside} }}")
        lines += [
            "",
            "  [[release.file]]",
            f'  name = "{archive}"',
            f"  size = {1000 + mod * 7 + number}",
            f'  sha256 = "{random.Random(mod * 100 + number).randbytes(32).hex()}"',
            f'  from = ["https://files.example.invalid/{archive}"]',
            "",
            "  [[release.place]]",
            f'  take = "{name(mod)}/**"',
            f'  to = "@mods/{name(mod)}/"',
        ]
    return "\n".join(lines) + "\n"


def write_catalog(world: CatalogWorld, folder: str) -> None:
    """Write a card for each mod into ``folder``/cards."""
    cards = os.path.join(folder, "cards")
    os.makedirs(cards, exist_ok=True)
    for mod, releases in enumerate(world.mods):
        with open(os.path.join(cards, f"{name(mod)}.toml"), "w", encoding="utf-8") as file:
            file.write(card_text(mod, releases))


def dump(world: CatalogWorld, file: str) -> None:
    """Write a world as JSON, for other solvers."""
    count = len(world.mods[0])
    document = {
        "versions": [version(number) for number in range(count)],
        "names": [name(mod) for mod in range(len(world.mods))],
        "game": GAME,
        "wants": world.wants,
        "mods": [[[r.game, r.needs, r.clashes] for r in releases] for releases in world.mods],
    }
    with open(file, "w", encoding="utf-8") as stream:
        json.dump(document, stream)
