"""The grafts that ``rellum.toml`` names: content of a donor under the names of a slot of the game."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass

from rellum.core.catalog.places import checked_glob, read_renames
from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import TableReader
from rellum.core.catalog.written_ids import parse_id
from rellum.core.hashing import hash_bytes
from rellum.core.pack.locked_release import LockedGraft
from rellum.core.values.ids import ModId


@dataclass(frozen=True, slots=True, kw_only=True)
class Graft:
    """A graft as it is written.

    ``donor`` is an absolute path: another game's folder, or an archive. ``take`` is a pattern over its
    files, ``leave_out`` what goes from that, ``slot`` a folder of the game, as it is written. ``rename``
    are patterns over what is taken, and what they become.
    """

    name: str
    donor: str
    take: str
    leave_out: tuple[str, ...]
    slot: str
    rename: tuple[tuple[str, str], ...]
    source: Source


def locked_graft(graft: Graft) -> LockedGraft:
    """Return how a line-up names a graft. Where its donor lies on this machine is no part of it."""
    said = (os.path.basename(graft.donor), graft.take, graft.leave_out, graft.slot, graft.rename)
    text = json.dumps(said).encode("utf-8", "surrogatepass")
    return LockedGraft(mod=ModId(graft.name), slot=graft.slot, said=hash_bytes(text)[:16])


def read_grafts(readers: list[TableReader], folder: str) -> tuple[Graft, ...]:
    """Read every ``[[graft]]``, noting every fault; donors are named from the pack's ``folder``."""
    grafts: dict[str, Graft] = {}
    for reader in readers:
        name = reader.parsed("name", "strait-as-shelf", parse_id, required=True)
        donor = reader.text("donor", "../old-game", required=True)
        slot = reader.text("slot", "@maps/north-shelf/", required=True)
        take = reader.parsed("take", "maps/strait/**", checked_glob) or "**"
        leave_out = reader.texts("leave-out", "*.txt")
        for index, each in enumerate(leave_out):
            reader.convert(each, checked_glob, "leave-out", index)
        rename = read_renames(reader.table("rename"))
        reader.finish()
        if name in grafts:
            reader.fault(f"the graft {name!r} appears twice here", "name")
        elif name and donor and slot:
            grafts[name] = Graft(
                name=name,
                donor=os.path.normpath(os.path.join(folder, donor)),
                take=take,
                leave_out=leave_out,
                slot=slot,
                rename=rename,
                source=reader.source,
            )
    return tuple(grafts.values())
