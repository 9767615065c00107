"""Absorb: what something else changed in the game becomes a mod of the pack's own.

An installer program, a configuration tool, or the user by hand: the files become an archive on the shelf
and a card in the pack's own catalog folder, so that they are checked, ordered, removed and shared
like any mod. They stay where they stand; only what is noted of them changes.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace

from rellum.core.actions.mend.own_mod import (
    Absorbing,
    CannotAbsorb,
    card_with,
    files_of,
    make_archive,
    pack_change_for,
    releases_of,
)
from rellum.core.actions.mend.restore import named_path
from rellum.core.catalog.written_ids import parse_id
from rellum.core.change.activities import ABSORBING, refuse_activities
from rellum.core.change.execute import execute
from rellum.core.change.journal import PackChange
from rellum.core.change.learning import learn_vanilla
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.plan import Plan
from rellum.core.change.request import Request
from rellum.core.change.staging import NoSources
from rellum.core.change.supplies import let_go_of_rest, supply
from rellum.core.folder.model import Finding
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.values.content import Content, Laid
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.owners import RELLUM, VANILLA
from rellum.core.values.paths import GAME, PlacePath, fault_in_relative, is_text, parents, shown
from rellum.core.words import count_words


@dataclass(frozen=True, slots=True, kw_only=True)
class Begun:
    """Copies of vanilla files that are kept until the end; ``bytes`` 0 where there was no room."""

    files: int
    bytes: int


Confirm = Callable[[Absorbing], bool]


def begin(request: Request) -> Begun:
    """Get ready for another program: copy each vanilla file that has no copy yet.

    Raises CannotAbsorb where the folder is not as Rellum left it, OSError.
    """
    with open_pack(request) as opened:
        refuse_activities(opened.home, opened.state, "absorb")
        drift = drift_of(opened)
        if drift.findings:
            count = count_words(len(drift.findings), "file differs", "files differ")
            raise CannotAbsorb(
                f"the game folder has drift: {count}",
                hint="See 'rellum check'. Repair, sweep or absorb these first, to keep the changes apart.",
            )
        site, state = opened.site, opened.state
        laid = state.laid()
        files = {
            entry.path: entry.content
            for entry in state.baseline_files()
            if entry.path not in laid and entry.content
        }
        size = sum(content.size for content in files.values())
        site.disk.make_folder(site.home.originals_folder)
        if size > shutil.disk_usage(site.home.originals_folder).free // 2:
            state.set_absorbing({})
            state.set_note(ABSORBING, "without copies")
            return Begun(files=0, bytes=0)
        store = site.originals
        copied = [
            store.put_copy(opened.roots.absolute(path), content.digest)
            for path, content in files.items()
            if not store.has(content.digest)
        ]
        site.disk.flush(store.folder, copied, [store.folder])
        state.set_absorbing({path: content.digest for path, content in files.items()})
        state.set_note(ABSORBING, "with copies")
        return Begun(files=len(files), bytes=size)


def stop(request: Request) -> bool:
    """End what ``begin`` began, without a mod; return whether it was begun."""
    with open_pack(request) as opened:
        was_begun = bool(opened.state.note(ABSORBING))
        opened.state.set_absorbing({})
        opened.state.set_note(ABSORBING, "")
        let_go_of_rest(opened)
        return was_begun


def absorb(
    request: Request,
    mod: str,
    paths: Sequence[str],
    confirm: Confirm,
    *,
    source: str = "",
    ends: bool = False,
) -> tuple[Absorbing, bool]:
    """Make a mod of what a check finds: all of it, or what lies at or below ``paths``.

    ``source``: a copy of the game with the vanilla files that have no kept copy. ``ends``: only after
    ``begin``. Called again with the same name, the mod gets a new version with the new changes too. Returns
    what was planned, and whether it was done. Raises CannotAbsorb, NoLineUpExists, and what taking can
    raise.
    """
    with open_pack(request) as opened:
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        if ends and not opened.state.note(ABSORBING):
            raise CannotAbsorb(
                "'rellum absorb --begin' was not run before, or was refused",
                hint="Without --end, 'rellum absorb --as NAME' takes what 'rellum check' finds now; name a "
                "clean copy of the game by --from, so that it can be taken out again.",
            )
        refuse_activities(opened.home, opened.state, "absorb")
        planned = _plan(opened, mod, paths, source)
        if not confirm(planned):
            let_go_of_rest(opened)
            return planned, False
        with Shelf(request.shelf_folder) as shelf, _workplace(opened) as work:
            files = files_of(opened, planned)
            archive = make_archive(opened, shelf, planned, files, work)
            card = card_with(opened, planned, files, archive)
            pack = pack_change_for(opened, shelf, planned, card, work)
        _record(opened, planned, pack)
    return planned, True


@contextmanager
def _workplace(opened: Session) -> Iterator[str]:
    """Give an empty folder in the pack, which is gone afterwards."""
    work = opened.home.work_folder
    shutil.rmtree(work, ignore_errors=True)
    os.makedirs(work)
    try:
        yield work
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _plan(opened: Session, mod: str, paths: Sequence[str], source: str) -> Absorbing:
    try:
        parse_id(mod)
    except ValueError as error:
        raise CannotAbsorb(
            str(error), hint="Name it with --as, for example --as my-tweaks."
        ) from error
    below = [named_path(text, opened) for text in paths]
    drift = with_causes(drift_of(opened), opened)
    chosen = [
        each
        for each in drift.findings
        if not below or any(f"{each.path}/".startswith(f"{folder}/") for folder in below)
    ]
    fits = [each for each in chosen if _can_be_absorbed(each, opened)]
    if not fits:
        faults = [(each.path, _fault_in_name(each.path)) for each in chosen]
        raise CannotAbsorb(
            "there is nothing to absorb",
            details=tuple(f"{shown(path)}: {fault}" for path, fault in faults if fault),
            hint="Rellum absorbs files that were changed, added or removed: see 'rellum check'.",
        )
    version = str(releases_of(opened, mod) + 1)
    left = tuple(
        replace(each, detail=_fault_in_name(each.path) or each.detail)
        for each in chosen
        if each not in fits
    )
    lacking = _lacking(opened, [each.path for each in fits if each.owner == VANILLA], source)
    return Absorbing(
        mod=mod, version=version, findings=tuple(fits), left=left, lacking=tuple(lacking)
    )


def _lacking(opened: Session, paths: Sequence[PlacePath], source: str) -> list[PlacePath]:
    """Return the vanilla files that have no kept copy and that ``source`` lacks, too."""
    if source:
        learn_vanilla(opened, source)
        supply(opened, source, paths)
    store = opened.site.originals
    vanilla = opened.state.baseline(paths)
    return sorted(p for p, e in vanilla.items() if e.content and not store.has(e.content.digest))


def _can_be_absorbed(finding: Finding, opened: Session) -> bool:
    """Whether a finding is a file that is there, or a vanilla file that is gone."""
    if finding.owner == RELLUM or finding.stands_as or finding.cause == "game-update":
        return False
    if finding.kind == "missing":
        entry = opened.state.baseline([finding.path]).get(finding.path)
        is_vanilla = finding.owner == VANILLA and entry is not None and entry.kind == "file"
        return is_vanilla and not _fault_in_name(finding.path)
    file = opened.roots.absolute(finding.path)
    is_file = os.path.isfile(file) and not os.path.islink(file)
    return is_file and not _fault_in_name(finding.path)


def _fault_in_name(path: PlacePath) -> str:
    """Say why a file cannot be in an archive and a card; an empty text where it can."""
    if not is_text(path):
        return "its name is not valid Unicode"
    fault = fault_in_relative(path.partition("/")[2])
    return f"archives cannot hold this name: {fault}" if fault else ""


def _record(opened: Session, planned: Absorbing, pack: PackChange) -> None:
    """Note whose the files are now, and what lies under them."""
    name = ReleaseName(ModId(planned.mod), planned.version)
    files = files_of(opened, planned)
    stood = _left_before(opened, planned)
    rows, vanilla = opened.state.laid(files), opened.state.baseline(files)
    noted = []
    for path, content in files.items():
        entry = vanilla.get(path)
        under = rows[path].under if path in rows else entry.content if entry else None
        noted.append(Laid(path, name, content, under))
    folders = {folder for path in files if files[path] for folder in parents(path)} - {GAME}
    known = opened.state.baseline(folders).keys() | opened.state.own_folders()
    plan = Plan(
        noted=tuple(noted),
        forgotten=_gone(opened, planned.mod, files),
        new_folders=tuple(sorted(folders - known)),  # they are there, and are the mod's from now on
        stood=stood,
    )
    execute(plan, "absorb", opened.site, NoSources(), pack)
    # Only now: until it is recorded what lies under the files, nothing else keeps the copies.
    opened.state.set_absorbing({})
    opened.state.set_note(ABSORBING, "")
    let_go_of_rest(opened)


def _left_before(
    opened: Session, planned: Absorbing
) -> tuple[tuple[PlacePath, Content | None], ...]:
    """Return what Rellum had left where the other program put its own: what going back brings back."""
    paths = [each.path for each in planned.findings]
    rows, vanilla = opened.state.laid(paths), opened.state.baseline(paths)
    found: list[tuple[PlacePath, Content | None]] = []
    for path in paths:
        entry = vanilla.get(path)
        native = entry.content if entry else None
        found.append((path, rows[path].content if path in rows else native))
    return tuple(found)


def _gone(opened: Session, mod: str, files: Iterable[PlacePath]) -> tuple[PlacePath, ...]:
    """Return the mod's own files that are no longer there: they belong to nobody now."""
    known = set(files)
    return tuple(path for path in opened.state.laid_by(mod) if path not in known)
