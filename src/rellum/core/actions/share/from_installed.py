"""A working folder from an installed mod: a copy to edit, so that nobody edits what the game reads."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from typing import NamedTuple

from rellum.core.actions.share.working_folder import CannotPress, refuse_installed
from rellum.core.archives.model import Extraction, Member
from rellum.core.catalog.model import Release
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.hashing import hash_file
from rellum.core.layers.placing import place_archives
from rellum.core.nearest import nearest
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.values.content import Laid
from rellum.core.values.ids import ReleaseName
from rellum.core.values.paths import PlacePath, file_of, parents, root_of


class WorkingCopy(NamedTuple):
    """A copy of an installed mod to be edited.

    ``from_archive``: it is shaped as the archive on the shelf, with what stands in the game instead of
    ``edited_count`` of its files; else it has the installed files alone.
    """

    release: ReleaseName
    folder: str
    file_count: int
    from_archive: bool
    edited_count: int


def copy_installed(request: Request, mod: str, folder: str) -> WorkingCopy:
    """Copy an installed mod into a new folder. Raises CannotPress, ArchiveFault, ShelfFault, OSError."""
    folder = os.path.abspath(folder)
    if os.path.isdir(folder) and os.listdir(folder):
        raise CannotPress(f"{folder} is not empty", hint="Name a folder that is not there yet.")
    with open_pack(request) as opened:
        releases = {each.mod: each for each in opened.state.releases_laid()}
        found = next((each for name, each in releases.items() if name == mod), None)
        if found is None:
            raise CannotPress(
                f"{mod} is not in the game",
                hint=nearest(mod, releases) or "'rellum list' lists what is.",
            )
        os.makedirs(folder, exist_ok=True)
        refuse_installed(folder, opened.roots)
        rows = opened.state.laid(opened.state.laid_by(found.mod))
        laid = {path: row for path, row in rows.items() if row.content is not None}
        with Shelf(request.shelf_folder) as shelf:
            copied = _from_archive(opened, shelf, found, laid, folder)
        return copied or _from_game(opened, found, laid, folder)


def _from_archive(
    opened: Session, shelf: Shelf, name: ReleaseName, laid: Mapping[PlacePath, Laid], folder: str
) -> WorkingCopy | None:
    """Copy by the archive on the shelf; None where one archive does not tell all."""
    release = _release(opened, name)
    entry = None
    if release and len(release.files) == 1 and not (release.patches or release.edits):
        entry = shelf.find(release.files[0], release)
    if release is None or entry is None:
        return None
    members = shelf.members(entry.digest)
    archive = shelf.open(entry.digest)
    archive.extract([_extraction(each, folder) for each in members])
    rules = [each for each in release.places if each.takes_members and not each.options]
    placed = place_archives(rules, [(entry, members)]) if rules else ()
    edited = 0
    for each in placed:
        path = file_of(each.path)
        source = opened.roots.absolute(path) if path in laid and path == each.path else ""
        if each.member and os.path.isfile(source) and hash_file(source) != each.member.digest:
            shutil.copyfile(source, _target(each.member, folder))
            edited += 1
    return WorkingCopy(name, folder, len(members), True, edited)


def _release(opened: Session, name: ReleaseName) -> Release | None:
    mod = opened.files.catalog.mods.get(name.mod)
    return next(
        (
            each
            for each in (mod.releases if mod else ())
            if each.version.text == name.version and each.build == name.build
        ),
        None,
    )


def _target(member: Member, folder: str) -> str:
    return os.path.join(folder, *str(member.path).split("/"))


def _extraction(member: Member, folder: str) -> Extraction:
    target = _target(member, folder)
    os.makedirs(os.path.dirname(target), exist_ok=True)
    mode = 0o755 if member.executable else 0o644
    return Extraction(member=member.stored_as, digest=member.digest, target=target, mode=mode)


def _from_game(
    opened: Session, name: ReleaseName, laid: Mapping[PlacePath, Laid], folder: str
) -> WorkingCopy:
    """Copy what stands in the game: from the folder down that all of it lies in, else by places."""
    paths = [path for path in sorted(laid) if os.path.isfile(opened.roots.absolute(path))]
    if not paths:
        raise CannotPress(
            f"nothing of {name} lies in the game", hint="'rellum check' says what is missing."
        )
    common = set(parents(paths[0])).intersection(*(parents(path) for path in paths))
    top = max(common, key=len, default=None)
    for path in paths:
        inner = path[len(top) + 1 :] if top and top != root_of(path) else path[1:]
        target = os.path.join(folder, *inner.split("/"))
        os.makedirs(os.path.dirname(target), exist_ok=True)
        shutil.copyfile(opened.roots.absolute(path), target)
    return WorkingCopy(name, folder, len(paths), False, 0)
