"""Backups: make, list, compare and bring back what is the player's own; to and from a plain zip."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.change.backing_up import back_up, players_files
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.hashing import hash_file
from rellum.core.nearest import nearest
from rellum.core.pack.backup import Backup, BackupFault, Made
from rellum.core.pack.backups import Backups
from rellum.core.pack.home import pack_home
from rellum.core.pack.session import Session
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, is_inside, shown

if TYPE_CHECKING:
    from rellum.core.change.plan import Plan

# What plans, changes the game and reads archives is imported where it is done: most calls only keep or list.


class NoBackup(UserError):
    """A backup, or a file of one, is not there, or cannot be brought back."""

    code = "no-backup"


class BackupResult(NamedTuple):
    """A backup that was made, or the newest, where nothing has changed since it. None: nothing to keep."""

    made: Made
    backup: Backup | None


class Comparison(NamedTuple):
    """What differs between two backups, or between one and what stands there now (``other`` None)."""

    backup: Backup
    other: Backup | None
    came: tuple[PlacePath, ...]
    changed: tuple[PlacePath, ...]
    gone: tuple[PlacePath, ...]


class BringingBack(NamedTuple):
    """What bringing back a backup would do. ``newer`` are files that it does not have, and that stay;
    ``lost`` those of it whose kept content is lost or damaged.
    """

    backup: Backup
    plan: Plan
    newer: tuple[PlacePath, ...]
    lost: tuple[PlacePath, ...]


class BroughtBack(NamedTuple):
    """What was done; ``kept`` is the backup of what was there before. ``done`` False: the user said no."""

    bringing: BringingBack
    kept: Made | None
    done: bool


Confirm = Callable[[BringingBack], bool]


def make_backup(request: Request, name: str = "") -> BackupResult:
    """Keep what is the player's own as it is now. Raises NoBackup for a bad name, BackupFault."""
    _refuse_bad_name(name)
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        if name and os.path.exists(opened.home.backups_folder):
            with Backups(opened.home.backups_folder) as backups:
                if name in backups.names():
                    raise NoBackup(
                        f"another backup is called {name!r}", hint="Choose another name."
                    )
        made = back_up(opened.home, opened.rules, opened.state, opened.roots, "", name)
        if not made.number:
            return BackupResult(made=made, backup=None)
        with Backups(opened.home.backups_folder) as backups:
            return BackupResult(made=made, backup=backups.find(str(made.number)))


def _refuse_bad_name(name: str) -> None:
    if name.isdigit() or name != name.strip() or not name.isprintable():
        raise NoBackup(
            f"a backup cannot be called {name!r}",
            hint="Choose a name that is not just a number, such as 'before-the-storm'.",
        )


def list_backups(request: Request) -> list[Backup]:
    """Return all backups, the newest first. Raises BackupFault."""
    home = pack_home(request.pack_folder)
    if not os.path.exists(home.backups_folder):
        return []
    with Backups(home.backups_folder) as backups:
        return backups.all()


def show_backup(request: Request, name: str) -> tuple[Backup, dict[PlacePath, Content]]:
    """Return a backup and what it has. Raises BackupFault."""
    with _open_backups(request) as backups:
        found = backups.find(name)
        return found, backups.files_of(found.number)


def compare_backups(request: Request, name: str, other: str = "") -> Comparison:
    """Tell what differs from a backup to another, or to what stands there now. Raises BackupFault."""
    if other:
        with _open_backups(request) as backups:
            first, second = backups.find(name), backups.find(other)
            return _compared(
                first, second, backups.files_of(first.number), backups.files_of(second.number)
            )
    with open_pack(request) as opened, _backups_of(opened) as backups:
        first = backups.find(name)
        return _compared(first, None, backups.files_of(first.number), _standing(opened))


def _standing(opened: Session) -> dict[PlacePath, Content]:
    seen = players_files(opened.rules, opened.state, opened.roots)
    return {
        path: Content(hash_file(each.file), each.size, each.mode, each.mtime_ns)
        for path, each in seen.items()
    }


def _compared(
    first: Backup,
    second: Backup | None,
    before: dict[PlacePath, Content],
    after: dict[PlacePath, Content],
) -> Comparison:
    both = before.keys() & after.keys()
    return Comparison(
        backup=first,
        other=second,
        came=tuple(sorted(after.keys() - before.keys())),
        changed=tuple(sorted(path for path in both if before[path].digest != after[path].digest)),
        gone=tuple(sorted(before.keys() - after.keys())),
    )


def bring_back(
    request: Request,
    name: str,
    paths: Sequence[str],
    confirm: Confirm,
    *,
    exactly: bool = False,
) -> BroughtBack:
    """Bring back a backup, or some files or folders of it; what is there now is kept in a backup first.

    ``exactly``: files that came since go. Raises BackupFault, NoBackup, CannotLay, NoSpace, RolledBack.
    """
    from rellum.core.change.execute import execute
    from rellum.core.change.players_plan import KeptFiles

    with open_pack(request) as opened:
        with _backups_of(opened) as backups:
            backup = backups.find(name)
            bringing = _planned(opened, backups, backup, paths, exactly=exactly)
        done = not bringing.plan.is_empty and confirm(bringing)
        kept = None
        if done:
            opened.state.refuse_unfit()
            reason = f"bringing back {backup.number}"
            kept = back_up(opened.home, opened.rules, opened.state, opened.roots, reason)
            if kept.in_use:
                raise NoBackup(
                    f"{shown(kept.in_use[0])} is being written to, so it cannot be kept first",
                    hint="Leave the game, and run it again. Nothing was changed.",
                )
            execute(bringing.plan, "backup", opened.site, KeptFiles())
        return BroughtBack(bringing=bringing, kept=kept, done=done)


def _planned(
    opened: Session, backups: Backups, backup: Backup, paths: Sequence[str], *, exactly: bool
) -> BringingBack:
    from rellum.core.change.players_plan import plan_players

    files = backups.files_of(backup.number)
    chosen = _chosen(files, paths, backup)
    known = {path: each for path, each in chosen.items() if _is_known(path, opened)}
    lost = {each.digest for each in known.values()}
    lost = {digest for digest in lost if not backups.is_whole(digest)}
    wanted: dict[PlacePath, Content | None] = {
        path: each for path, each in known.items() if each.digest not in lost
    }
    seen = () if paths else players_files(opened.rules, opened.state, opened.roots)
    newer = tuple(path for path in seen if path not in files)
    if exactly:
        wanted |= dict.fromkeys(newer)
    plan = plan_players(wanted, opened.state, opened.roots, backups.path_of)
    return BringingBack(
        backup=backup,
        plan=plan,
        newer=() if exactly else newer,
        lost=tuple(
            path for path, each in chosen.items() if path not in known or each.digest in lost
        ),
    )


def _is_known(path: PlacePath, opened: Session) -> bool:
    root = path.split("/")[0]
    return root == "@game" or root in opened.roots.outside


def _chosen(
    files: dict[PlacePath, Content], paths: Sequence[str], backup: Backup
) -> dict[PlacePath, Content]:
    """Return the files that are named, by paths as they are shown, or folders. Raises NoBackup."""
    if not paths:
        return files
    found: dict[PlacePath, Content] = {}
    for named in paths:
        plain = named.replace("\\", "/").rstrip("/")
        here = {
            path: each
            for path, each in files.items()
            if any(text == plain or text.startswith(f"{plain}/") for text in (path, shown(path)))
        }
        if not here:
            names = list(map(shown, files))
            raise NoBackup(
                f"backup {backup.number} has no {named!r}{nearest(named, names)}",
                hint=f"'rellum backup show {backup.number}' lists its files.",
            )
        found |= here
    return found


def drop_backups(request: Request, names: Sequence[str]) -> tuple[list[Backup], int]:
    """Forget backups; return them, and the bytes freed. Raises BackupFault."""
    with open_pack(request) as opened, _backups_of(opened) as backups:
        opened.state.refuse_unfit()
        found = [backups.find(name) for name in names]
        return found, backups.drop(each.number for each in found)


def check_backups(request: Request) -> list[tuple[PlacePath, int]]:
    """Read every kept file; return those that are lost or damaged, with a backup that has them."""
    with _open_backups(request) as backups:
        return list(backups.damaged())


def export_backup(request: Request, name: str, target: str) -> tuple[Backup, tuple[PlacePath, ...]]:
    """Write a backup as a plain zip; return it, and the files of it that are lost.

    Raises NoBackup, OSError.
    """
    import shutil
    import zipfile

    if os.path.exists(target):
        raise NoBackup(f"{target} is there already", hint="Name a new file.")
    with _open_backups(request) as backups:
        backup = backups.find(name)
        lost = []
        unfinished = f"{target}.rellum-new"
        with zipfile.ZipFile(unfinished, "w", zipfile.ZIP_DEFLATED) as archive:
            for path, each in sorted(backups.files_of(backup.number).items()):
                if not backups.is_whole(each.digest):
                    lost.append(path)
                    continue
                moment = time.localtime(max(each.mtime_ns // 10**9, 315_532_800 + 86_400))[:6]
                info = zipfile.ZipInfo(path[1:], date_time=moment)
                info.external_attr = (stat.S_IFREG | each.mode) << 16
                info.compress_type = zipfile.ZIP_DEFLATED
                with (
                    open(backups.path_of(each.digest), "rb") as file,
                    archive.open(info, "w", force_zip64=each.size > 1 << 30) as member,
                ):
                    shutil.copyfileobj(file, member, 1 << 20)
        os.replace(unfinished, target)
    return backup, tuple(lost)


def import_backup(request: Request, source: str, confirm: Confirm) -> BroughtBack:
    """Lay the files of a zip that ``export_backup`` wrote into the game; what is there now is kept first.

    Only what the sheet or a card calls the player's own is taken. Raises NoBackup, ArchiveFault.
    """
    from rellum.core.archives.model import Extraction
    from rellum.core.archives.open import open_archive
    from rellum.core.change.execute import execute
    from rellum.core.change.players_plan import KeptFiles, plan_players
    from rellum.core.pack.disk import Disk

    with open_pack(request) as opened:
        archive = open_archive(source)
        rules = opened.rules
        is_own = rules.path_rules.test((*rules.carried, *rules.settings_patterns))
        places = rules.players_places
        work = opened.home.work_folder
        wanted: dict[PlacePath, Content | None] = {}
        files: dict[str, str] = {}
        jobs = []
        left = []
        for number, member in enumerate(archive.check(request.listen)):
            path = PlacePath(f"@{member.path}")
            inside = any(is_inside(f"/{path}", f"/{place}") for place in places)
            if not (is_own(path) or inside) or not _is_known(path, opened):
                left.append(path)
                continue
            target = os.path.join(work, f"{number:07}")
            jobs.append(
                Extraction(member=member.stored_as, digest=member.digest, target=target, mode=0o600)
            )
            files[member.digest] = target
            wanted[path] = Content(member.digest, member.size, 0o644, time.time_ns())
        if not wanted:
            raise NoBackup(
                f"{source} holds no file of the player's, by the game sheet",
                hint="It is for zips that 'rellum backup export' wrote.",
            )
        disk = opened.disk or Disk()
        disk.remove_tree(work)
        os.makedirs(work)
        try:
            archive.extract(jobs)
            plan = plan_players(wanted, opened.state, opened.roots, files.__getitem__)
            backup = Backup(0, os.path.basename(source), "", "", "", "", (), len(wanted), 0, 0)
            bringing = BringingBack(backup=backup, plan=plan, newer=(), lost=tuple(left))
            done = not plan.is_empty and confirm(bringing)
            kept = None
            if done:
                opened.state.refuse_unfit()
                kept = back_up(opened.home, rules, opened.state, opened.roots, "taking in a zip")
                execute(plan, "backup", opened.site, KeptFiles())
        finally:
            disk.remove_tree(work)
        return BroughtBack(bringing=bringing, kept=kept, done=done)


@contextmanager
def _open_backups(request: Request) -> Iterator[Backups]:
    home = pack_home(request.pack_folder)
    if not os.path.exists(home.backups_folder):
        raise _none_yet()
    with Backups(home.backups_folder) as backups:
        yield backups


@contextmanager
def _backups_of(opened: Session) -> Iterator[Backups]:
    if not os.path.exists(opened.home.backups_folder):
        raise _none_yet()
    with Backups(opened.home.backups_folder) as backups:
        yield backups


def _none_yet() -> BackupFault:
    return BackupFault("there is no backup yet", hint="'rellum backup' makes one.")
