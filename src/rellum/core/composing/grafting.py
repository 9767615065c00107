"""Grafts: layers made from a donor, another game's folder or an archive."""

from __future__ import annotations

import os
from collections.abc import Iterator

from rellum.core.archives.model import Member
from rellum.core.catalog.model import Catalog, Trial
from rellum.core.catalog.release_rules import PlaceRule
from rellum.core.catalog.toml_lines import place_of
from rellum.core.composing.workshop import Workshop, recipe_of
from rellum.core.errors import UserError
from rellum.core.globs import fixed_folder, literal, path_test
from rellum.core.hashing import Digest, hash_file
from rellum.core.layers.model import Brought, DiskFile, Layer, LayerFile
from rellum.core.layers.placing import place_members
from rellum.core.layers.slot_shapes import Shape, shape_of
from rellum.core.pack.grafts import Graft
from rellum.core.pack.locked_release import GRAFT
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import Made
from rellum.core.shelf.take_in import take
from rellum.core.values.ids import ModId
from rellum.core.values.paths import (
    MemberPath,
    PlacePath,
    TargetPath,
    UnsafePath,
    file_of,
    is_inside,
    parse_member_path,
    parse_place_path,
    shown,
    shown_file,
)


class GraftFault(UserError):
    """A graft cannot be made: its donor, its slot, or what it takes is not there."""

    code = "graft-fault"


def graft_layers(
    grafts: tuple[Graft, ...], catalog: Catalog, workshop: Workshop
) -> Iterator[tuple[Layer, Shape]]:
    """Yield a layer for each graft, and how it fits its slot. Raises GraftFault, PlacingFault."""
    slots: dict[PlacePath, Graft] = {}
    for graft in grafts:
        where = place_of(graft.source)
        if graft.name in catalog.mods:
            raise GraftFault(
                f"{where}: {graft.name!r} is the id of a mod", hint="Give the graft another name."
            )
        slot, had = _slot(graft, catalog, workshop)
        _refuse_slot_twice(graft, slot, slots)
        if not os.path.exists(graft.donor) and (stands := _as_laid(graft, workshop)):
            removes = () if slot in had else (f"{literal(slot)}/**",)
            layer = Layer(mod=ModId(graft.name), version=GRAFT, files=stands, removes=removes)
            yield layer, shape_of(graft.name, had, [file_of(file.path) for file in stands])
            continue
        members, archive = _donor_files(graft, workshop)
        rule = PlaceRule(
            take=graft.take,
            to=slot,
            expect=(),
            source=graft.source,
            leave_out=graft.leave_out,
            rename=graft.rename,
        )
        placed = place_members(rule, members, shown_file(graft.donor))
        _refuse_idle_renames(graft, members)
        removes = (f"{literal(slot)}/**",)
        if slot in had:  # the slot is one file
            placed, removes = {slot: _only_file(graft, placed)}, ()
        files = [
            _brought(path, member, graft, archive, workshop) for path, member in placed.items()
        ]
        layer = Layer(mod=ModId(graft.name), version=GRAFT, files=tuple(files), removes=removes)
        yield layer, shape_of(graft.name, had, [file_of(file.path) for file in files])


def _refuse_slot_twice(graft: Graft, slot: PlacePath, slots: dict[PlacePath, Graft]) -> None:
    """Refuse a slot that another graft stands for, or that lies in one. Raises GraftFault."""
    for other, first in slots.items():
        if f"{slot}/".startswith(f"{other}/") or f"{other}/".startswith(f"{slot}/"):
            raise GraftFault(
                f"{place_of(graft.source.at('slot'))}: {shown(slot)} is the slot of the graft "
                f"{first.name} already ({place_of(first.source.at('slot'))})",
                hint="Give each graft a slot of its own, or take one of them out.",
            )
    slots[slot] = graft


def _refuse_idle_renames(graft: Graft, members: list[Member]) -> None:
    """Refuse a rename that no file of the donor fits: a slip, or the donor changed. Raises GraftFault."""
    for pattern, _ in graft.rename:
        fits = path_test(pattern if "/" in pattern else f"**/{pattern}")
        if not any(fits(member.path) or fits(_name(member)) for member in members):
            raise GraftFault(
                f"{place_of(graft.source.at('rename', pattern))}: no file of "
                f"{shown_file(graft.donor)} fits {pattern!r}",
                hint="Correct the pattern, or remove it.",
            )


def _name(member: Member) -> str:
    return member.path.rpartition("/")[2]


def _only_file(graft: Graft, placed: dict[TargetPath, Member]) -> Member:
    """Return the one file that stands for a slot of one file. Raises GraftFault."""
    if len(placed) != 1:
        raise GraftFault(
            f"{place_of(graft.source.at('slot'))}: the slot is one file, and the graft takes "
            f"{len(placed)} files",
            hint="Name one file in 'take'.",
        )
    return next(iter(placed.values()))


def _as_laid(graft: Graft, workshop: Workshop) -> tuple[Brought, ...]:
    """Return a graft's files as they lie in the game, where all of them are as they were laid.

    Its donor may be away: nothing of it is needed then.
    """
    rows = workshop.opened.state.laid_by(graft.name)
    files: list[Brought] = []
    for path, row in rows.items():
        if row.content is None:
            continue
        now, changed = content_at(workshop.roots, path, row.content)
        if now is None or changed:
            return ()
        files.append(
            DiskFile(
                path=path,
                file=workshop.roots.absolute(path),
                digest=now.digest,
                size=now.size,
                executable=bool(now.mode & 0o100),
            )
        )
    return tuple(files)


def _brought(
    path: TargetPath, member: Member, graft: Graft, archive: Digest | None, workshop: Workshop
) -> Brought:
    if archive:
        return LayerFile(path=path, archive=archive, member=member)
    file = os.path.join(graft.donor, *member.path.split("/"))
    if _place_in_game(file, workshop) in workshop.opened.state.laid():
        file = workshop.opened.site.originals.path_of(member.digest)
    return DiskFile(
        path=path, file=file, digest=member.digest, size=member.size, executable=member.executable
    )


def _slot(graft: Graft, catalog: Catalog, workshop: Workshop) -> tuple[PlacePath, list[PlacePath]]:
    """Return the slot's folder and the vanilla files in it. Raises GraftFault."""
    where = place_of(graft.source.at("slot"))
    try:
        slot = parse_place_path(graft.slot, catalog.sheet.places)
    except UnsafePath as error:
        raise GraftFault(f"{where}: {error.summary}") from error
    had = workshop.vanilla(f"{literal(slot)}/**") or workshop.vanilla(slot)
    if not had:
        raise GraftFault(
            f"{where}: the game has no slot {shown(slot)}: there are no vanilla files in it",
            hint="Name a folder or a file of the game that the graft replaces.",
        )
    return slot, had


def _donor_files(graft: Graft, workshop: Workshop) -> tuple[list[Member], Digest | None]:
    """Return what the donor has, and its archive on the shelf if it is one. Raises GraftFault."""
    if os.path.isdir(graft.donor):
        return list(_files_in(graft, workshop)), None
    if not os.path.isfile(graft.donor):
        raise GraftFault(
            f"{place_of(graft.source.at('donor'))}: the donor {shown_file(graft.donor)} is not there",
            hint="Name a game folder or an archive, relative to the pack's folder.",
        )
    digest = _known_digest(graft.donor, workshop)
    shelf = workshop.shelf
    if shelf.index.one("blake3 = ?", digest) is None:
        take(shelf, graft.donor)  # read and checked as any archive, once
    return list(shelf.members(digest)), digest


def _files_in(graft: Graft, workshop: Workshop) -> Iterator[Member]:
    """Yield the files of a donor's folder that can be taken; links are passed over.

    Where that is this game, what mods lay over counts, and not the mods' own: else a graft would change with
    what it lays itself.
    """
    laid = workshop.opened.state.laid()
    for path, row in laid.items():
        file = workshop.roots.absolute(path)
        if row.under and is_inside(file, graft.donor):
            yield Member(
                path=MemberPath(os.path.relpath(file, graft.donor).replace(os.sep, "/")),
                size=row.under.size,
                digest=row.under.digest,
                executable=bool(row.under.mode & 0o100),
            )
    fixed = fixed_folder(graft.take).rstrip("/")
    start = os.path.join(graft.donor, *fixed.split("/")) if fixed else graft.donor
    for folder, folders, names in os.walk(start):
        folders.sort()
        for name in sorted(names):
            file = os.path.join(folder, name)
            if os.path.islink(file) or not os.path.isfile(file):
                continue
            if _place_in_game(file, workshop) in laid:
                continue
            relative = os.path.relpath(file, graft.donor).replace(os.sep, "/")
            status = os.stat(file)
            yield Member(
                path=MemberPath(parse_member_path(relative)),
                size=status.st_size,
                digest=_known_digest(file, workshop),
                executable=bool(status.st_mode & 0o100),
            )


def _place_in_game(file: str, workshop: Workshop) -> PlacePath | None:
    return workshop.roots.place_path(file) if is_inside(file, workshop.roots.game_folder) else None


def _known_digest(file: str, workshop: Workshop) -> Digest:
    """Return a file's hash; it is not read again as long as its size and time stay the same."""
    status = os.stat(file)
    recipe = recipe_of("donor", os.path.abspath(file), status.st_size, status.st_mtime_ns)
    made = workshop.known(recipe)
    if made is None:
        made = Made(digest=hash_file(file), size=status.st_size)
        workshop.remember(recipe, made)
    return made.digest


def trials_against(grafts: tuple[Graft, ...], trials: tuple[Trial, ...]) -> list[Trial]:
    """Return the trials that a graft of these broke."""
    names = {graft.name for graft in grafts}
    return [each for each in trials if each.outcome == "breaks" and names.intersection(each.grafts)]
