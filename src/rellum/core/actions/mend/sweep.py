"""Sweep: move foreign and left-over files out of the game to a dated folder, and back."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass

from rellum.core.actions.mend.restore import named_path
from rellum.core.change.activities import refuse_activities
from rellum.core.change.carry_out import swept_file
from rellum.core.change.execute import execute
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.opening import open_pack
from rellum.core.change.operations import BringBack, Found
from rellum.core.change.plan import Plan
from rellum.core.change.repairing import plan_away
from rellum.core.change.request import Request
from rellum.core.change.setting_aside import new_sweep_folder
from rellum.core.change.staging import NoSources
from rellum.core.errors import UserError
from rellum.core.folder.model import Finding
from rellum.core.hashing import hash_file
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.session import Session
from rellum.core.values.content import Content
from rellum.core.values.owners import FOREIGN
from rellum.core.values.paths import GAME, PlacePath, Roots, is_text, parents


class NothingSwept(UserError):
    """There is no sweep of that name."""

    code = "nothing-swept"


@dataclass(frozen=True, slots=True, kw_only=True)
class Sweeping:
    """What a sweep would do: each file with why it is nobody's. ``left`` stay, with the reason."""

    plan: Plan
    findings: tuple[Finding, ...]
    left: tuple[tuple[PlacePath, str], ...]
    folder: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Sweep:
    """One sweep that was done: its dated folder, what lies in it, and folders that were empty."""

    name: str
    folder: str
    files: tuple[PlacePath, ...]
    folders: tuple[PlacePath, ...] = ()


def sweep(
    request: Request, paths: Sequence[str], confirm: Callable[[Sweeping], bool]
) -> tuple[Sweeping, bool]:
    """Move files that are nobody's out of the game: all, or those at or below ``paths``.

    Returns what was planned, and whether it was done. Raises RolledBack, and what opening can raise.
    """
    with open_pack(request) as opened:
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        refuse_activities(opened.home, opened.state, "sweep")
        planned = _plan(opened, [named_path(text, opened) for text in paths])
        done = planned.plan.is_empty or confirm(planned)
        if done and not planned.plan.is_empty:
            execute(planned.plan, "sweep", opened.site, NoSources())
        return planned, done


def _plan(opened: Session, below: Sequence[PlacePath]) -> Sweeping:
    drift = with_causes(drift_of(opened), opened)
    findings = [
        each
        for each in drift.findings
        if each.kind == "foreign" and (not below or {each.path, *parents(each.path)} & set(below))
    ]
    files, left, empty = [], [], []
    for each in findings:
        mode = os.lstat(opened.roots.absolute(each.path)).st_mode
        if each.cause in ("game-update", "half-updated"):
            left.append((each.path, "it came with an update of the game"))
        elif each.cause == "unsure" and each.path not in below:
            left.append((each.path, "it may be part of the game; name it to move it out"))
        elif not is_text(each.path):
            left.append((each.path, "its name is not valid Unicode"))
        elif stat.S_ISREG(mode):
            files.append(each)
        elif stat.S_ISDIR(mode):
            empty.append(each.path)
        else:
            left.append((each.path, "it is not a regular file"))
    folder = new_sweep_folder(opened.home.swept_folder)
    stays = {path for path, _ in left}
    findings = [each for each in findings if each.path not in stays]
    plan = plan_away((each.path for each in files), opened.roots)
    paths = [each.path for each in files]
    plan = plan._replace(
        swept_to=folder if files or empty else "",
        swept=tuple(paths),
        spare_folders=tuple(_left_empty(paths, empty, opened)),
    )
    return Sweeping(plan=plan, findings=tuple(findings), left=tuple(left), folder=folder)


def _left_empty(
    files: Sequence[PlacePath], empty: Sequence[PlacePath], opened: Session
) -> list[PlacePath]:
    """Return the folders that go if nothing else is in them: nobody's, and not vanilla. Inner first."""
    folders = {folder for path in files for folder in parents(path)} | set(empty)
    folders -= {PlacePath(GAME), *map(PlacePath, opened.roots.outside)}
    known = opened.state.baseline(folders).keys() | opened.state.own_folders()
    return sorted(folders - known, key=len, reverse=True)


def list_sweeps(request: Request) -> list[Sweep]:
    """Return the sweeps whose files still lie outside the game, the latest first."""
    with open_pack(request) as opened:
        return list(_sweeps(opened))


def bring_back(request: Request, name: str) -> tuple[Sweep, tuple[PlacePath, ...]]:
    """Bring back what a sweep moved out; ``last``: the latest. Raises NothingSwept, RolledBack.

    Returns the sweep, and what stays out because something else stands there now.
    """
    with open_pack(request) as opened:
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        sweeps = list(_sweeps(opened))
        found = next((each for each in sweeps if name in (each.name, "last")), None)
        if found is None:
            known = ", ".join(repr(each.name) for each in sweeps) or "none"
            raise NothingSwept(f"there is no sweep {name!r}", hint=f"There are: {known}.")
        taken = [p for p in found.files if os.path.lexists(opened.roots.absolute(p))]
        files = [path for path in found.files if path not in taken]
        execute(_plan_back(found, files, opened), "sweep --back", opened.site, NoSources())
        for inside, _, _ in os.walk(found.folder, topdown=False):
            with suppress(OSError):  # what else somebody put there stays
                os.rmdir(inside)
        return found, tuple(taken)


def _plan_back(sweep: Sweep, files: Sequence[PlacePath], opened: Session) -> Plan:
    site = opened.site
    site.disk.make_folder(site.home.originals_folder)
    operations = []
    for path in files:
        file = swept_file(sweep.folder, path)
        digest = hash_file(file)
        if not site.originals.is_whole(digest):
            site.originals.put_copy(file, digest)
        status = os.lstat(file)
        content = Content(
            digest=digest,
            size=status.st_size,
            mode=stat.S_IMODE(status.st_mode),
            mtime_ns=status.st_mtime_ns,
        )
        operations.append(BringBack(path, Found(None, FOREIGN), content, FOREIGN))
    spent = ((swept_file(sweep.folder, each.path), each.after.digest) for each in operations)
    folders = {folder for path in (*files, *sweep.folders) for folder in parents(path)}
    folders |= set(sweep.folders)
    new = sorted(each for each in folders if not os.path.lexists(opened.roots.absolute(each)))
    return Plan(
        operations=tuple(operations),
        new_folders=tuple(new),
        others_folders=tuple(new),
        spent=tuple(spent),
    )


def _sweeps(opened: Session) -> Iterator[Sweep]:
    folder = opened.home.swept_folder
    for name in sorted(os.listdir(folder), reverse=True) if os.path.isdir(folder) else ():
        above = os.path.join(folder, name)
        files = tuple(sorted(_found_in(above, opened.roots, folders=False)))
        folders = tuple(sorted(_found_in(above, opened.roots, folders=True)))
        if files or folders:
            yield Sweep(name=name, folder=above, files=files, folders=folders)


def _found_in(folder: str, roots: Roots, *, folders: bool) -> Iterator[PlacePath]:
    """Yield the files of a sweep, or the folders in it that are empty."""
    known = {GAME[1:], *(root[1:] for root in roots.outside)}
    for inside, below_here, files in os.walk(folder):
        names = [each for each in below_here if not os.listdir(os.path.join(inside, each))]
        for name in names if folders else files:
            relative = os.path.relpath(os.path.join(inside, name), folder).replace(os.sep, "/")
            if relative.partition("/")[0] in known:
                yield PlacePath(f"@{relative}")
