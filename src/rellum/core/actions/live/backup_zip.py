"""A backup to and from a plain zip."""

from __future__ import annotations

import os
import shutil
import stat
import time
import zipfile

from rellum.core.actions.live.backup import NoBackup, open_backups
from rellum.core.actions.live.bring_back import BringingBack, BroughtBack, Confirm, is_known
from rellum.core.archives.model import Extraction
from rellum.core.archives.open import open_archive
from rellum.core.change.backing_up import back_up
from rellum.core.change.execute import execute
from rellum.core.change.opening import open_pack
from rellum.core.change.players_plan import KeptFiles, plan_players
from rellum.core.change.request import Request
from rellum.core.pack.backup import Backup
from rellum.core.pack.disk import Disk
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, is_inside


def export_backup(request: Request, name: str, target: str) -> tuple[Backup, tuple[PlacePath, ...]]:
    """Write a backup as a plain zip; return it, and the files of it that are lost.

    Raises NoBackup, OSError.
    """
    if os.path.exists(target):
        raise NoBackup(f"{target} is there already", hint="Name a new file.")
    with open_backups(request) as backups:
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
            if not (is_own(path) or inside) or not is_known(path, opened):
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
