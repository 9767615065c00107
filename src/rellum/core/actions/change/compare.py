"""Compare: what differs between two line-ups: of now, of a checkpoint, a variant, another pack, or a file."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass

from rellum.core.actions.change.switch_variant import as_if
from rellum.core.change.opening import open_pack
from rellum.core.change.preparing import Preparing
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.hashing import Digest, hash_file
from rellum.core.layers.model import Target
from rellum.core.nearest import nearest
from rellum.core.pack.backups import Backups
from rellum.core.pack.checkpoints import PastState
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, read_text
from rellum.core.pack.lock_file import LockFile, read_lock_text
from rellum.core.pack.locked_release import LockedGraft, LockedRelease
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.session import Session
from rellum.core.pack.variants import Variant, find_variant, variants_of
from rellum.core.shelf.store import Shelf
from rellum.core.values.content import Content
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath

NOW = "now"
"""What the pack has now is called so."""


class NothingToCompare(UserError):
    """A name is neither a checkpoint, a variant, a pack nor a line-up, or its line-up cannot be read."""

    code = "nothing-to-compare"


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """What differs between two line-ups: releases (None: not in it), options, settings files, laid files.

    ``settings`` and ``files`` are None where a side does not tell of them.
    """

    releases: tuple[tuple[ModId, str | None, str | None], ...]
    options: tuple[tuple[ModId, str, str], ...]
    settings: tuple[tuple[PlacePath, str], ...] | None
    files: tuple[tuple[PlacePath, str], ...] | None

    @property
    def is_empty(self) -> bool:
        """Whether nothing differs, as far as is known."""
        return not (self.releases or self.options or self.settings or self.files)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Side:
    """One side: its line-up, and what tells how its files were; ``is_now``: as they are now."""

    lock: LockFile | None
    variant: Variant | None = None
    then: PastState | None = None
    is_now: bool = False


def compare(request: Request, first: str, second: str, *, files: bool) -> Difference:
    """Tell what differs. A side is ``now``, a checkpoint, a variant, a pack's folder or a line-up's file.

    ``files``: of two variants, also every file that they would lay; of checkpoints these are known anyway.

    Raises NothingToCompare.
    """
    with open_pack(request) as opened, Shelf(request.shelf_folder) as shelf:
        sides = [_side(opened, each) for each in (first, second)]
        changed, settings = None, None
        if all(side.is_now or side.then for side in sides):
            settings = tuple(_settings_since(opened, *sides))
            told = {path for path, _ in settings}
            changed = tuple(each for each in _changed_since(opened, *sides) if each[0] not in told)
        variants = [each.variant for each in sides]
        if variants[0] and variants[1]:
            settings = tuple(_settings_difference(opened, first, second))
            if files:
                targets = [_target(opened, each, shelf) for each in variants if each]
                changed = tuple(_files_difference(*targets))
        return _difference(sides[0].lock, sides[1].lock, settings, changed)


def _side(opened: Session, name: str) -> _Side:
    if name == NOW:
        return _Side(lock=opened.files.lock_if_any, is_now=True)
    variants = variants_of(opened.home)
    if any(each.name == name for each in variants):
        variant = find_variant(variants, name)
        return _Side(lock=variant.lock, variant=variant)
    checkpoints = opened.state.checkpoints.all()
    found = next((each for each in checkpoints if name in (each.name, str(each.number))), None)
    if found is None:
        return _Side(
            lock=_lock_at(name, [*(v.name for v in variants), *(c.name for c in checkpoints)])
        )
    then = opened.state.checkpoints.then(found.number)
    text = dict(then.pack_texts).get(LOCK_FILE)
    return _Side(lock=read_lock_text(text, LOCK_FILE) if text else None, then=then)


def _lock_at(path: str, names: list[str]) -> LockFile | None:
    """Return the line-up in a file, or of the pack in a folder. Raises NothingToCompare."""
    folder = path if os.path.isdir(path) else os.path.dirname(path)
    file = os.path.join(path, LOCK_FILE) if os.path.isdir(path) else path
    is_pack = os.path.isdir(path) and os.path.exists(os.path.join(folder, PACK_FILE))
    if not os.path.isfile(file):
        if is_pack:
            return None  # a pack without a line-up yet
        raise NothingToCompare(
            f"{path!r} is no checkpoint, variant, pack or line-up{nearest(path, [*names, NOW])}",
            hint="'rellum checkpoint --list' and 'rellum variant' list what there is; a pack's folder or a "
            "rellum.lock is named by its path, and 'now' is what the pack has now.",
        )
    lock = read_lock_text(read_text(file) or "", file)
    if lock is None:
        raise NothingToCompare(
            f"{file} is no line-up that this Rellum reads",
            hint="Name a rellum.lock that 'rellum resolve' wrote.",
        )
    return lock


def _difference(
    first: LockFile | None,
    second: LockFile | None,
    settings: tuple[tuple[PlacePath, str], ...] | None,
    files: tuple[tuple[PlacePath, str], ...] | None,
) -> Difference:
    by_mod = [_by_mod(lock) if lock else {} for lock in (first, second)]
    mods = sorted({*by_mod[0], *by_mod[1]})
    labels = [(mod, _label(by_mod[0].get(mod)), _label(by_mod[1].get(mod))) for mod in mods]
    return Difference(
        releases=tuple((mod, a, b) for mod, a, b in labels if a != b),
        options=tuple(
            (mod, _options(a.options), _options(b.options))
            for mod in mods
            if isinstance(a := by_mod[0].get(mod), LockedRelease)
            and isinstance(b := by_mod[1].get(mod), LockedRelease)
            and a.options != b.options
        ),
        settings=settings,
        files=files,
    )


def _by_mod(lock: LockFile) -> dict[ModId, LockedRelease | LockedGraft]:
    found: dict[ModId, LockedRelease | LockedGraft] = {each.mod: each for each in lock.releases}
    return found | {each.mod: each for each in lock.grafts}


def _settings_since(
    opened: Session, first: _Side, second: _Side
) -> Iterator[tuple[PlacePath, str]]:
    """Yield the settings that differ between two checkpoints, or one and now."""
    then = [side.then.settings if side.then else None for side in (first, second)]
    paths = sorted({path for settings in then if settings is not None for path in settings})
    for path in paths:
        a, b = (
            _digest_there(opened, path)
            if settings is None
            else settings[path].digest
            if path in settings
            else None
            for settings in then
        )
        if a != b:
            yield path, _word_of(a, b)


def _digest_there(opened: Session, path: PlacePath) -> Digest | None:
    """Return the hash of what stands at a path; None where nothing does."""
    try:
        return hash_file(opened.roots.absolute(path))
    except (OSError, KeyError):
        return None


def _word_of(first: Digest | None, second: Digest | None) -> str:
    if first is None:
        return "only in the second"
    return "only in the first" if second is None else "another content"


def _changed_since(opened: Session, first: _Side, second: _Side) -> Iterator[tuple[PlacePath, str]]:
    """Yield the files that differ between two checkpoints, or one and now, as Rellum left them."""
    state = opened.state
    then = [side.then.files if side.then else {} for side in (first, second)]
    paths = sorted({*then[0], *then[1]})
    laid, vanilla = state.laid(paths), state.baseline(paths)

    def now(path: PlacePath) -> Digest | None:
        if path in laid:
            content = laid[path].content
            return content.digest if content else None
        if path in vanilla:
            content = vanilla[path].content
            return content.digest if content else None
        return _digest_there(opened, path)  # the player's, or nobody's

    def digest(content: Content | None) -> Digest | None:
        return content.digest if content else None

    for path in paths:
        if path == MARKER_PATH:
            continue
        a, b = (digest(files[path]) if path in files else now(path) for files in then)
        if a != b:
            yield path, _word_of(a, b)


def _label(release: LockedRelease | LockedGraft | None) -> str | None:
    return release.label if release else None


def _options(options: tuple[tuple[str, tuple[str, ...]], ...]) -> str:
    return ", ".join(f"{group} = {' '.join(chosen) or 'none'}" for group, chosen in options) or "-"


def _target(opened: Session, variant: Variant, shelf: Shelf) -> Target:
    with as_if(opened, variant) as then, Preparing(then, shelf, False) as preparing:
        return preparing.compose().target


def _files_difference(first: Target, second: Target) -> Iterator[tuple[PlacePath, str]]:
    for path in sorted({*first.files, *second.files}):
        one, other = first.files.get(path), second.files.get(path)
        if one is None or other is None:
            yield path, "only in the second" if one is None else "only in the first"
        elif getattr(one.file, "digest", "") != getattr(other.file, "digest", ""):
            yield path, "another content"


def _settings_difference(opened: Session, one: str, other: str) -> Iterator[tuple[PlacePath, str]]:
    """Yield the player's files that differ between the newest backups of two variants."""
    if not os.path.exists(opened.home.backups_folder):
        return
    with Backups(opened.home.backups_folder) as backups:
        found = [backups.newest_of(one), backups.newest_of(other)]
        files = [backups.files_of(each.number) if each else None for each in found]
    if files[0] is None or files[1] is None:
        return
    for path in sorted({*files[0], *files[1]}):
        a, b = files[0].get(path), files[1].get(path)
        if a is None or b is None:
            yield path, "only in the second" if a is None else "only in the first"
        elif a.digest != b.digest:
            yield path, "another content"
