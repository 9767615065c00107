"""Graft: put a donor's content into a slot of the game, as rellum.toml says; and take it out again."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rellum.core.actions.change.decide import BadDecision, written_place
from rellum.core.catalog.places import checked_glob
from rellum.core.catalog.written_ids import parse_id
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.nearest import nearest
from rellum.core.pack.grafts import Graft
from rellum.core.pack.pack_edits import edit_pack, relative_to_pack

if TYPE_CHECKING:
    from tomlkit import TOMLDocument


def grafts(request: Request) -> tuple[Graft, ...]:
    """Return the grafts of a pack. Raises FileFaults, NoPack."""
    with open_pack(request) as opened:
        return opened.files.pack.grafts


def add_graft(
    request: Request,
    name: str,
    *,
    donor: str,
    slot: str,
    take: str,
    leave_out: Sequence[str],
    rename: Sequence[tuple[str, str]],
) -> None:
    """Write a graft; one of that name is replaced. Raises BadDecision, FileFaults, OSError."""
    import tomlkit

    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        try:
            parse_id(name), checked_glob(take), [checked_glob(each) for each in leave_out]
        except ValueError as error:
            raise BadDecision(str(error), hint="'rellum graft --help' has an example.") from error
        if not os.path.exists(donor):
            raise BadDecision(
                f"the donor {donor} is not there", hint="Name a folder or an archive."
            )
        table = tomlkit.table()
        table["name"] = name
        table["donor"] = relative_to_pack(opened.home, os.path.abspath(donor))
        table["take"] = take
        if leave_out:
            table["leave-out"] = list(leave_out)
        table["slot"] = written_place(opened, slot)
        if rename:
            names = tomlkit.inline_table()
            names.update(dict(rename))
            table["rename"] = names

        def change(document: TOMLDocument) -> None:
            grafts = document.setdefault("graft", tomlkit.aot())
            for index, each in enumerate(grafts):
                if each.get("name") == name:
                    grafts[index] = table
                    return
            grafts.append(table)

        edit_pack(opened.home, change)


def drop_graft(request: Request, name: str) -> None:
    """Take a graft out. Raises BadDecision, OSError."""
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        names = [each.name for each in opened.files.pack.grafts]
        if name not in names:
            raise BadDecision(
                f"the pack has no graft {name!r}{nearest(name, names)}",
                hint="'rellum graft' lists them.",
            )

        def change(document: TOMLDocument) -> None:
            grafts = document["graft"]
            for index, each in enumerate(grafts):
                if each.get("name") == name:
                    del grafts[index]
                    break
            if not len(grafts):
                del document["graft"]

        edit_pack(opened.home, change)
