"""Reading the option groups of a card: ``[[option]]``."""

from __future__ import annotations

from functools import partial
from typing import Literal

from rellum.core.catalog.model import OptionChoice, OptionGroup
from rellum.core.catalog.statements import Orderings, read_clashes, read_needs
from rellum.core.catalog.tables import TableReader
from rellum.core.catalog.written_ids import parse_id
from rellum.core.nearest import nearest
from rellum.core.versions.orderings import Ordering
from rellum.core.versions.ranges import parse_range


def read_options(
    root: TableReader, ordering: Ordering, orderings: Orderings
) -> tuple[OptionGroup, ...]:
    """Read all groups, noting every fault."""
    groups: dict[str, OptionGroup] = {}
    for reader in root.tables("option"):
        group = _read_group(reader, ordering, orderings)
        if group is None:
            continue
        if group.id in groups:
            reader.fault(f"the option {group.id!r} appears twice here", "id")
        groups[group.id] = group
    return tuple(groups.values())


def _read_group(
    reader: TableReader, ordering: Ordering, orderings: Orderings
) -> OptionGroup | None:
    group_id = reader.parsed("id", "quality", parse_id, required=True)
    pick = _read_pick(reader)
    default = _read_default(reader, pick)
    choices: dict[str, OptionChoice] = {}
    for each in reader.tables("choice"):
        choice = _read_choice(each, ordering, orderings)
        if choice.id in choices:
            each.fault(f"the choice {choice.id!r} appears twice here", "id")
        choices[choice.id] = choice
    if not choices:
        reader.fault("there is no [[option.choice]]")
    for name in default:
        if choices and name not in choices:
            words = f"{name!r} is not a choice of this option" + nearest(name, choices)
            reader.fault(words, "default")
    reader.finish()
    if group_id is None:
        return None
    return OptionGroup(
        id=group_id,
        pick=pick,
        default=default,
        choices=tuple(choices.values()),
        source=reader.source,
    )


def _read_pick(reader: TableReader) -> Literal["one", "any"]:
    text = reader.text("pick", "one") or "one"
    if text not in ("one", "any"):
        reader.fault(f"{text!r} is neither one nor any", "pick")
    return "any" if text == "any" else "one"


def _read_default(reader: TableReader, pick: str) -> tuple[str, ...]:
    """Read what is chosen unless asked: a name, or for ``any`` a list of names."""
    if pick == "any":
        return reader.texts("default", "gulls")
    text = reader.text("default", "high")
    return () if text is None else (text,)


def _read_choice(reader: TableReader, ordering: Ordering, orderings: Orderings) -> OptionChoice:
    choice_id = reader.parsed("id", "high", parse_id, required=True)
    releases = reader.text("releases", ">=3") or "*"
    reader.convert(releases, partial(parse_range, ordering=ordering), "releases")
    game = reader.text("game", ">=1.5")
    if game is not None:
        reader.convert(game, parse_range, "game")
    needs = read_needs(reader, orderings)
    clashes = read_clashes(reader, orderings)
    expansions = reader.table("expansions")
    needed = expansions.texts("needs", "ice-charts")
    forbidden = expansions.texts("forbids", "deep-trench")
    expansions.finish()
    reader.finish()
    return OptionChoice(
        id=choice_id or "",
        releases=releases,
        game=game,
        needs=needs,
        clashes=clashes,
        source=reader.source,
        expansions_needed=needed,
        expansions_forbidden=forbidden,
    )
