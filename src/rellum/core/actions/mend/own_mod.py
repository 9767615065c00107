"""The own mod that absorb makes: its archive on the shelf, its card, and the change of the pack's texts."""

from __future__ import annotations

import json
import os
import shutil
import tomllib
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from typing import NamedTuple

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.schemas import lay_schemas, schema_line
from rellum.core.change.journal import PackChange
from rellum.core.composing.line_up import line_up_of
from rellum.core.errors import UserError
from rellum.core.folder.model import Finding
from rellum.core.globs import literal
from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.catalogs import find_catalogs
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, pack_texts, read_text, write_text
from rellum.core.pack.lock_file import NoLineUp, lock_text
from rellum.core.pack.pack_edits import add_catalog, replace_catalog, set_want
from rellum.core.pack.pack_file import WantLine, read_pack_file
from rellum.core.pack.session import Session
from rellum.core.pack.standing import content_at
from rellum.core.shelf.folder_pack import pack_folder as pack_as_zip
from rellum.core.shelf.store import Shelf
from rellum.core.shelf.take_in import take
from rellum.core.values.content import Content
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath, root_of


class CannotAbsorb(UserError):
    """There is nothing to absorb, or not under that name, or not now."""

    code = "cannot-absorb"


@dataclass(frozen=True, slots=True, kw_only=True)
class Absorbing:
    """What would become a mod: findings of a check, and those that cannot be part of it.

    ``lacking`` are vanilla files among them without a kept copy: dropping the mod cannot bring these
    back.
    """

    mod: str
    version: str
    findings: tuple[Finding, ...]
    left: tuple[Finding, ...]
    lacking: tuple[PlacePath, ...] = ()


def _card_file(opened: Session, mod: str) -> str:
    return os.path.join(opened.home.own_catalog, "cards", f"{mod}.toml")


def releases_of(opened: Session, mod: str) -> int:
    """Return how many releases the own card of a mod has. Raises CannotAbsorb where it is another's."""
    try:
        with open(_card_file(opened, mod), "rb") as file:
            return len(tomllib.load(file).get("release", ()))
    except FileNotFoundError:
        pass
    catalogs = find_catalogs(opened.home, pack=opened.files.pack)
    if any(os.path.exists(os.path.join(folder, "cards", f"{mod}.toml")) for folder in catalogs):
        raise CannotAbsorb(
            f"the catalog already has a mod {mod!r}",
            hint="Choose another name for your own.",
        )
    return 0


def files_of(opened: Session, planned: Absorbing) -> dict[PlacePath, Content | None]:
    """Return every file of the new release with what stands there; None where it takes a file away."""
    paths = [each.path for each in planned.findings]
    paths += [path for path in opened.state.laid_by(planned.mod) if path not in paths]
    vanilla = opened.state.baseline(paths)
    found: dict[PlacePath, Content | None] = {}
    for path in sorted(paths):
        row = opened.state.laid([path]).get(path)
        content, _ = content_at(opened.roots, path, row.content if row else None)
        if content is not None or path in vanilla:
            found[path] = content
    return found


class Archive(NamedTuple):
    """The archive of a mod on the shelf; no digest where the mod only takes files away."""

    name: str
    size: int
    digest: Digest | None


def make_archive(
    opened: Session,
    shelf: Shelf,
    planned: Absorbing,
    files: Mapping[PlacePath, Content | None],
    work: str,
) -> Archive:
    """Put the files on the shelf, as an archive."""
    name = f"{planned.mod}-{planned.version}.zip"
    tree, archive = os.path.join(work, "files"), os.path.join(work, name)
    for path, content in files.items():
        if content is not None:
            target = os.path.join(tree, *path[1:].split("/"))
            os.makedirs(os.path.dirname(target), exist_ok=True)
            shutil.copyfile(opened.roots.absolute(path), target)
            shutil.copymode(opened.roots.absolute(path), target)
    if not os.path.isdir(tree):
        return Archive(name, 0, None)
    pack_as_zip(tree, archive)
    found = Archive(name, os.path.getsize(archive), hash_file(archive))
    take(shelf, archive)
    shelf.index.add_pack(opened.home.folder)  # whose it is: nobody else has it
    return found


def card_with(
    opened: Session,
    planned: Absorbing,
    files: Mapping[PlacePath, Content | None],
    archive: Archive,
) -> str:
    """Return the mod's card with the new release."""
    text = read_text(_card_file(opened, planned.mod)) or (
        f"{schema_line('../../.rellum/schemas/card.json')}\n"
        "# Made by 'rellum absorb': files that something else changed in the game.\n"
        f'[mod]\nid = "{planned.mod}"\nname = "{planned.mod}"\nkind = "mod"\n'
    )
    version = opened.state.identity().version.text
    removes = [literal(path) for path, content in files.items() if content is None]
    text += f'\n[[release]]\nversion = "{planned.version}"\ngame = "={version}"\n'
    if removes:
        text += f"removes = {json.dumps(removes, ensure_ascii=False)}\n"
    after = _others(opened, planned.mod)
    if after:
        text += f"load = {{ after = {json.dumps(after)} }}\n"
    name, size, digest = archive
    if digest:
        text += f'\n  [[release.file]]\n  name = "{name}"\n  size = {size}\n  blake3 = "{digest}"\n'
    for root in sorted({root_of(path) for path, content in files.items() if content}):
        text += f'\n  [[release.place]]\n  take = "{root[1:]}/**"\n  to = "{root}/"\n'
    return text


def pack_change_for(
    opened: Session, shelf: Shelf, planned: Absorbing, card: str, work: str
) -> PackChange:
    """Return what becomes of rellum.toml, rellum.lock and the card. Raises NoLineUpExists.

    The line-up is made from copies in ``work``: nothing of the pack is written before all can be.
    """
    with suppress(OSError):  # a pack that was made before cards had a schema
        lay_schemas(os.path.join(opened.home.state_folder, "schemas"), ("card",))
    home = opened.home._replace(texts_folder=work)
    for name, text in pack_texts(opened.home):
        write_text(os.path.join(work, name), text)
    pack = read_pack_file(home)
    is_wanted = any(want.mod == planned.mod for want in pack.wants)
    if opened.home.own_catalog not in pack.catalogs:
        add_catalog(home, opened.home.own_catalog)
    if not is_wanted:
        source = Source(file=home.pack_file)
        set_want(home, WantLine(mod=ModId(planned.mod), range_text="*", source=source))
    pack_text = read_text(home.pack_file) or ""
    own = os.path.join(work, "own")
    cards, card_file = os.path.join(own, "cards"), _card_file(opened, planned.mod)
    if os.path.isdir(opened.home.own_catalog):
        shutil.copytree(opened.home.own_catalog, own)
    os.makedirs(cards, exist_ok=True)
    write_text(os.path.join(cards, os.path.basename(card_file)), card)
    replace_catalog(home, opened.home.own_catalog, own)
    fresh = [planned.mod] if is_wanted else ()
    lock = line_up_of(opened.with_files_of(home), shelf, fresh)
    return PackChange(
        becoming=((PACK_FILE, pack_text), (LOCK_FILE, lock_text(lock))),
        writes=(PACK_FILE, LOCK_FILE),
        others=((os.path.relpath(card_file, opened.home.folder), card),),
        by_last_change=True,
    )


def _others(opened: Session, mod: str) -> list[str]:
    """Return the mods of the line-up: what was changed after them lies over them."""
    try:
        return [each.mod for each in opened.files.lock.releases if each.mod != mod]
    except NoLineUp:
        return []
