"""Reading ``rellum.toml``, with every fault located."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.archives.model import STANDARD_LIMITS, Limits
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import Fault, TableReader, fault_lines, parse_toml, raise_faults
from rellum.core.catalog.written_ids import parse_id
from rellum.core.hashing import hash_bytes
from rellum.core.nearest import nearest
from rellum.core.pack.grafts import Graft, locked_graft, read_grafts
from rellum.core.pack.home import MAIN, PackHome
from rellum.core.values.ids import ModId, SheetId
from rellum.core.values.paths import fault_in_name, shown_file
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import Range, RangeSyntaxError, parse_range
from rellum.core.versions.version import VersionSyntaxError

if TYPE_CHECKING:
    from rellum.core.catalog.model import Catalog
    from rellum.core.solving.problem import Hold, Trust, Want
    from rellum.core.values.chosen_options import Options


@dataclass(frozen=True, slots=True, kw_only=True)
class WantLine:
    """A want as it is written: what the range means is for the mod's ordering to say."""

    mod: ModId
    range_text: str
    source: Source
    optional: bool = False
    options: Options = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class HoldLine:
    """A hold as it is written."""

    mod: ModId
    version_text: str
    reason: str
    source: Source


class FollowedFeed(NamedTuple):
    """The feed that a pack follows, and the version of it that is here."""

    address: str
    version: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PackFile:
    """What ``rellum.toml`` says. Folders are absolute.

    ``game_range`` None: the line-up is for the version of the game that was adopted. ``limits`` are what an
    archive may hold at most. ``winners`` are paths, as they are written, that go to a mod whatever the load
    order. ``places`` are folders of places outside the game folder. ``variables`` are for texts that mods
    make. ``settings`` are paths, as they are written, with what becomes of a conflict of settings in them;
    ``nested`` are those with how a folder of the same name is laid in them. ``sources`` are folders from
    which ``file:`` addresses of cards may be read, beside the catalogs. ``feed`` is the feed that the pack
    follows; ``shared`` are mods whose archives a feed of it may have by the curator's word. ``variant`` is
    the variant that the file is for; ``look_at`` what a person looks at when the game runs, ``profile`` the
    profile of the game whose load order is written; empty: its only one.
    """

    name: str
    catalogs: tuple[str, ...]
    trust: Trust
    sheet: SheetId | None
    game_folder: str | None
    game_range: Range | None
    wants: tuple[WantLine, ...]
    holds: tuple[HoldLine, ...]
    limits: Limits = STANDARD_LIMITS
    winners: tuple[tuple[str, ModId, Source], ...] = ()
    places: tuple[tuple[str, str, Source], ...] = ()
    variables: tuple[tuple[str, str], ...] = ()
    settings: tuple[tuple[str, str, Source], ...] = ()
    nested: tuple[tuple[str, str, Source], ...] = ()
    sources: tuple[str, ...] = ()
    grafts: tuple[Graft, ...] = ()
    variant: str = MAIN
    look_at: tuple[str, ...] = ()
    profile: str = ""
    feed: FollowedFeed | None = None
    shared: tuple[ModId, ...] = ()


def read_pack_file(home: PackHome) -> PackFile:
    """Read ``rellum.toml``. Raises FileFaults with every mistake in it."""
    file = home.pack_file
    table, syntax_fault = parse_toml(file)
    raise_faults([syntax_fault] if table is None else [], shown_file(file))
    faults: list[Fault] = []
    root = TableReader(table or {}, Source(file=file), faults)
    pack = root.table("pack")
    name = pack.text("name", "north-sea") or os.path.basename(home.folder)
    catalogs = pack.texts("catalogs", "../catalog")
    trust = _read_trust(pack)
    sources = pack.texts("sources", "../downloads")
    variant = pack.parsed("variant", MAIN, parse_id) or MAIN
    look_at = pack.texts("look-at", "open the chart table: are the tides drawn?")
    pack.finish()
    game = root.table("game")
    sheet = game.parsed("sheet", "fathomline", parse_id)
    folder = game.text("folder", "../game")
    # What adopting found; kept for people to read. The state holds what counts.
    game.parsed("version", "1.6.0", parse_version)
    game.text("edition", "boxed")
    game.texts("expansions", "ice-charts")
    profile = game.parsed("profile", "main", _checked_name) or ""
    game_range = game.parsed("range", ">=1.6, <1.8", parse_range)
    places = _read_pairs(game.table("places"), "../player/settings")
    game.finish()
    variables = _read_pairs(root.table("variables"), "north")
    settings = _read_words(root.table("settings"), ("mine", "theirs"))
    nested = _read_words(root.table("nested"), ("once", "twice"))
    grafts = read_grafts(root.tables("graft"), home.folder)
    wants = _read_wants(root.table("want"))
    holds = _read_holds(root.table("hold"))
    limits = _read_limits(root.table("limits"))
    winners = _read_winners(root.table("winner"))
    feed = _read_feed(root)
    share = root.table("share")
    shared = tuple(ModId(each) for each in share.texts("allow", "tidal-currents"))
    share.finish()
    root.finish()
    raise_faults(fault_lines(faults), shown_file(file))
    return PackFile(
        name=name,
        catalogs=tuple(os.path.normpath(os.path.join(home.folder, each)) for each in catalogs),
        trust=trust,
        sources=tuple(os.path.normpath(os.path.join(home.folder, each)) for each in sources),
        game_range=game_range,
        sheet=SheetId(sheet) if sheet else None,
        game_folder=os.path.normpath(os.path.join(home.folder, folder)) if folder else None,
        wants=wants,
        holds=holds,
        limits=limits,
        winners=winners,
        places=tuple(
            (name, os.path.normpath(os.path.join(home.folder, each)), source)
            for name, each, source in places
        ),
        variables=tuple((name, text) for name, text, _ in variables),
        settings=settings,
        nested=nested,
        grafts=grafts,
        variant=variant,
        look_at=look_at,
        profile=profile,
        feed=feed,
        shared=shared,
    )


def _read_feed(root: TableReader) -> FollowedFeed | None:
    if "feed" not in root:
        return None
    reader = root.table("feed")
    address = reader.text("address", "https://packs.example.invalid/north-sea", required=True)
    version = reader.integer("version", 1) or 0
    reader.finish()
    return FollowedFeed(address, version) if address else None


def _checked_name(text: str) -> str:
    if fault := fault_in_name(text):
        raise ValueError(f"{text!r} is no name of a folder: {fault}")
    return text


def _read_pairs(reader: TableReader, example: str) -> tuple[tuple[str, str, Source], ...]:
    """Read a table of texts, each with the place where it stands."""
    found = ((name, reader.text(name, example)) for name in reader.names())
    return tuple((name, text, reader.source.at(name)) for name, text in found if text is not None)


def _read_words(reader: TableReader, words: tuple[str, str]) -> tuple[tuple[str, str, Source], ...]:
    """Read which of two words is said of each path."""
    pairs = _read_pairs(reader, words[0])
    for path, word, _ in pairs:
        if word not in words:
            reader.fault(f"{word!r} is neither {words[0]} nor {words[1]}", path)
    return pairs


def _read_winners(reader: TableReader) -> tuple[tuple[str, ModId, Source], ...]:
    """Read who wins which path: ``"@data/sea.dat" = "tidal-currents"``."""
    found = []
    for path in reader.names():
        if (mod := reader.parsed(path, "tidal-currents", parse_id)) is not None:
            found.append((path, ModId(mod), reader.source.at(path)))
    return tuple(found)


def _read_limits(reader: TableReader) -> Limits:
    """Read what an archive may hold at most, for packs whose archives are larger than is usual."""
    limits = STANDARD_LIMITS
    for name in ("members", "unpacked", "ratio", "depth"):
        number = reader.integer(name, getattr(limits, name))
        if number is not None:
            limits = replace(limits, **{name: number})
    reader.finish()
    return limits


def _read_trust(pack: TableReader) -> Trust:
    text = pack.text("trust", "declared") or "declared"
    if text != "declared" and text != "tried":
        pack.fault(f"{text!r} is neither declared nor tried", "trust")
    return "tried" if text == "tried" else "declared"


def _read_wants(reader: TableReader) -> tuple[WantLine, ...]:
    """Read wants: a range, or a table with a range, ``optional`` and ``options``."""
    wants = []
    for mod in reader.names():
        reader.convert(mod, parse_id, mod)
        if reader.holds(mod, dict):
            wants.append(_read_want_table(ModId(mod), reader.table(mod)))
        elif (text := reader.text(mod, ">=3")) is not None:
            wants.append(
                WantLine(mod=ModId(mod), range_text=text.strip(), source=reader.source.at(mod))
            )
    return tuple(wants)


def _read_want_table(mod: ModId, reader: TableReader) -> WantLine:
    range_text = reader.text("range", ">=3") or "*"
    optional = reader.flag("optional")
    options: list[tuple[str, tuple[str, ...]]] = []
    table = reader.table("options")
    for group in table.names():
        if table.holds(group, str):
            chosen = table.text(group, "high")
            options.append((group, (chosen,) if chosen else ()))
        else:
            options.append((group, table.texts(group, "gulls")))
    reader.finish()
    return WantLine(
        mod=mod,
        range_text=range_text.strip(),
        source=reader.source,
        optional=optional,
        options=tuple(options),
    )


def _read_holds(reader: TableReader) -> tuple[HoldLine, ...]:
    holds = []
    for mod in reader.names():
        reader.convert(mod, parse_id, mod)
        hold = reader.table(mod)
        version = hold.text("version", "3.2", required=True)
        reason = hold.text("reason", "3.3 makes the tides run backwards", required=True)
        hold.finish()
        if version is not None and reason is not None:
            holds.append(
                HoldLine(mod=ModId(mod), version_text=version, reason=reason, source=hold.source)
            )
    return tuple(holds)


def asked_hash(pack: PackFile) -> str:
    """Return a hash over what a pack asks for; the same as long as the line-up may stand."""
    said = [
        pack.trust,
        str(pack.game_range or ""),
        *(f"{w.mod} {w.range_text} {w.optional} {w.options}" for w in pack.wants),
        *(f"{h.mod} {h.version_text}" for h in pack.holds),
        *(f"{g.name} {locked_graft(g).said}" for g in pack.grafts),
    ]
    return hash_bytes("\n".join(said).encode("utf-8", "surrogatepass"))[:32]


def understand(pack: PackFile, catalog: Catalog) -> tuple[tuple[Want, ...], tuple[Hold, ...]]:
    """Read the pack's wants and holds by the orderings of their mods. Raises FileFaults."""
    from rellum.core.solving.problem import Hold, Want

    faults: list[Fault] = []
    wants = []
    for want in pack.wants:
        try:
            range_ = parse_range(want.range_text, catalog.ordering(want.mod))
        except RangeSyntaxError as error:
            faults.append(Fault(source=want.source, message=str(error)))
            continue
        faults.extend(_option_faults(want, catalog))
        wants.append(
            Want(
                mod=want.mod,
                range=range_,
                source=want.source,
                optional=want.optional,
                options=want.options,
            )
        )
    holds = []
    for hold in pack.holds:
        try:
            version = parse_version(hold.version_text, catalog.ordering(hold.mod))
            holds.append(
                Hold(mod=hold.mod, version=version, reason=hold.reason, source=hold.source)
            )
        except VersionSyntaxError as error:
            faults.append(Fault(source=hold.source.at("version"), message=str(error)))
    raise_faults(fault_lines(faults), "rellum.toml")
    return tuple(wants), tuple(holds)


def _option_faults(want: WantLine, catalog: Catalog) -> Iterator[Fault]:
    """Yield what a want says of options that its mod does not have."""
    mod = catalog.mods.get(want.mod)
    groups = {group.id: group for group in mod.options} if mod else {}
    for name, chosen in want.options:
        source = want.source.at("options", name)
        group = groups.get(name)
        if group is None:
            known = nearest(name, groups) or f"; it has {', '.join(groups) or 'none'}"
            yield Fault(source=source, message=f"{want.mod} has no option {name!r}{known}")
            continue
        choices = [each.id for each in group.choices]
        for each in chosen:
            if each not in choices:
                words = f"{each!r} is not a choice of it; there are {', '.join(choices)}"
                yield Fault(source=source, message=words)
        if group.pick == "one" and len(chosen) != 1:
            yield Fault(source=source, message="choose exactly one of it")
