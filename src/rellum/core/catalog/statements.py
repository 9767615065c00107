"""Reading what a release, build or option says about other mods: needs, clashes, offers, variants."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from rellum.core.catalog.model import Clash, MadeFor, Need, Offer, Requirement
from rellum.core.catalog.tables import TableReader
from rellum.core.catalog.written_ids import parse_id
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import DOTTED, Ordering, parse_version
from rellum.core.versions.ranges import parse_range

Orderings = Mapping[str, Ordering]


def read_needs(reader: TableReader, orderings: Orderings) -> tuple[Need, ...]:
    """Read ``needs`` (all of them) and ``needs-one-of`` (tables; one entry is enough)."""
    needs = []
    if "needs" in reader:
        needs = [
            Need(any_of=(Requirement(mod=ModId(mod), range=text),))
            for mod, text in _read_ranges(reader.table("needs"), orderings)
        ]
    for index, group in enumerate(reader.tables("needs-one-of")):
        any_of = tuple(
            Requirement(mod=ModId(mod), range=text) for mod, text in _read_ranges(group, orderings)
        )
        if any_of:
            needs.append(Need(any_of=any_of, listed=index))
        else:
            group.fault("it names no mod; write e.g. { keelson = '>=2', plumb-line = '*' }")
    return tuple(needs)


def _read_ranges(reader: TableReader, orderings: Orderings) -> list[tuple[str, str]]:
    found = []
    for mod in reader.names():
        text = reader.text(mod, ">=2.1, <3")
        if text is not None and _checked(reader, mod, text, orderings):
            found.append((mod, text))
    return found


def _checked(reader: TableReader, mod: str, text: str, orderings: Orderings) -> bool:
    """Note what is wrong with an id or a range; whether both are good."""
    try:
        parse_id(mod)
        parse_range(text, orderings.get(mod, DOTTED))
    except ValueError as error:
        reader.fault(str(error), mod)
        return False
    return True


def read_clashes(reader: TableReader, orderings: Orderings) -> tuple[Clash, ...]:
    """Read ``clashes``: a range, or a table with a range, a reason, and whether stand-ins are meant."""
    if "clashes" not in reader:
        return ()
    table = reader.table("clashes")
    found = []
    for mod in table.names():
        text, reason, spares = None, "", False
        if table.holds(mod, dict):
            said = table.table(mod)
            text = said.text("range", "<2") or "*"
            reason = said.text("reason", "both replace sea.dat") or ""
            spares = said.flag("only-itself")
            said.finish()
        else:
            text = table.text(mod, "*")
        if text is not None and _checked(table, mod, text, orderings):
            other = Requirement(mod=ModId(mod), range=text)
            found.append(Clash(other=other, reason=reason, spares_stand_ins=spares))
    return tuple(found)


def read_offers(reader: TableReader, orderings: Orderings) -> tuple[Offer, ...]:
    """Read ``offers``: mods whose work this release does, each with the version that it equals."""
    if "offers" not in reader:
        return ()
    table = reader.table("offers")
    found = []
    for mod in table.names():
        table.convert(mod, parse_id, mod)
        version_of = partial(parse_version, ordering=orderings.get(mod, DOTTED))
        version = table.parsed(mod, "2.4", version_of)
        if version is not None:
            found.append(Offer(mod=ModId(mod), version=version))
    return tuple(found)


def read_made_for(reader: TableReader) -> tuple[MadeFor, ...]:
    """Read ``made-for``: the variants of other mods that this release fits."""
    if "made-for" not in reader:
        return ()
    table = reader.table("made-for")
    found = []
    for mod in table.names():
        table.convert(mod, parse_id, mod)
        variants = table.texts(mod, "quality.high")
        if variants:
            found.append(MadeFor(mod=ModId(mod), variants=variants))
        elif table.holds(mod, list):
            table.fault('name at least one build or option, e.g. ["quality.high"]', mod)
    return tuple(found)
