"""Variants listed, made, renamed and dropped: several set-ups of one game, each with its own mods."""

from __future__ import annotations

import os
from contextlib import suppress
from typing import NamedTuple

from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.durable import write_durably
from rellum.core.pack.backups import Backups
from rellum.core.pack.home import PackHome, read_text
from rellum.core.pack.session import Session
from rellum.core.pack.variants import (
    VANILLA,
    NoVariant,
    Variant,
    file_of_lock,
    file_of_pack,
    find_variant,
    own_folders,
    parked,
    refuse_bad_name,
    renamed_text,
    variants_of,
)


class VariantRow(NamedTuple):
    """A variant in a list: how many mods it wants and has, and when it was last in use (RFC 3339).

    ``pack_folder`` is the pack of one with a game folder of its own; else it is empty.
    """

    name: str
    in_use: bool
    wants: int
    releases: int | None
    last_used: str
    pack_folder: str = ""


def list_variants(request: Request) -> list[VariantRow]:
    """Return all variants, the one in use first."""
    with open_pack(request) as opened:
        last: dict[str, str] = {}
        if os.path.exists(opened.home.backups_folder):
            with Backups(opened.home.backups_folder) as backups:
                last = backups.last_used()
        shared = [
            VariantRow(
                name=each.name,
                in_use=each.in_use,
                wants=_count_wants(each),
                releases=0 if each.name == VANILLA else _count_releases(each.lock_text),
                last_used="" if each.in_use else last.get(each.name, ""),
            )
            for each in _variants(opened)
        ]
        own = own_folders(opened.home).items()
        return [*shared, *(_row_of_own(name, folder) for name, folder in own)]


def _row_of_own(name: str, folder: str) -> VariantRow:
    home = PackHome(folder)
    text, lock = read_text(home.pack_file) or "", read_text(home.lock_file)
    variant = Variant(name, False, text, lock)
    return VariantRow(
        name=name,
        in_use=False,
        wants=_count_wants(variant),
        releases=_count_releases(lock),
        last_used="",
        pack_folder=folder,
    )


def _count_wants(variant: Variant) -> int:
    import tomli

    try:
        return len(tomli.loads(variant.pack_text).get("want", {}))
    except ValueError:
        return 0


def _count_releases(lock: str | None) -> int | None:
    """Return how many releases a line-up's text has, which is written a thing a line."""
    return None if lock is None else lock.splitlines().count("[[release]]")


def _variants(opened: Session) -> list[Variant]:
    return variants_of(opened.home)


def new_variant(request: Request, name: str, like: str = "") -> Variant:
    """Make a variant with the wants and the line-up of another, or of the one in use. Raises NoVariant."""
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        variants = _variants(opened)
        refuse_bad_name(name, variants)
        model = find_variant(variants, like) if like else variants[0]
        text = renamed_text(model.pack_text, name)
        made = Variant(name, False, text, model.lock_text)
        _write(opened, made)
        return made


def drop_variant(request: Request, name: str) -> Variant:
    """Forget a variant; backups of its settings and saves stay. Raises NoVariant."""
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        found = find_variant(_variants(opened), name)
        _refuse_fixed(found, "dropped")
        remove_waiting(opened.home, name)
        return found


def rename_variant(request: Request, name: str, new: str) -> None:
    """Give a variant another name; its backups follow. Raises NoVariant."""
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        variants = _variants(opened)
        found = find_variant(variants, name)
        if name == VANILLA:
            raise NoVariant("vanilla cannot be renamed", hint="It is the pack without any mod.")
        refuse_bad_name(new, variants)
        if os.path.exists(opened.home.backups_folder):
            with Backups(opened.home.backups_folder) as backups:
                backups.rename_variant(name, new)
        if found.in_use:
            text = renamed_text(found.pack_text, new)
            write_durably(opened.home.pack_file, text.encode("utf-8", "surrogateescape"))
            return
        _write(opened, found._replace(name=new, pack_text=renamed_text(found.pack_text, new)))
        remove_waiting(opened.home, name)


def _refuse_fixed(variant: Variant, verb: str) -> None:
    if variant.name == VANILLA:
        raise NoVariant(
            f"vanilla cannot be {verb}", hint="It is always there: the pack without mods."
        )
    if variant.in_use:
        raise NoVariant(
            f"{variant.name} is in use, and cannot be {verb}",
            hint="Switch to another first, for example: rellum variant use vanilla",
        )


def _write(opened: Session, variant: Variant) -> None:
    os.makedirs(os.path.join(opened.home.folder, "variants"), exist_ok=True)
    for path, text in parked(variant):
        write_durably(
            os.path.join(opened.home.folder, path), text.encode("utf-8", "surrogateescape")
        )


def remove_waiting(home: PackHome, name: str) -> None:
    """Remove the files in which a variant waits. Raises OSError."""
    for path in (file_of_pack(name), file_of_lock(name)):
        with suppress(FileNotFoundError):
            os.unlink(os.path.join(home.folder, path))
