"""Bring back what a backup has: all of it, or some files."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from rellum.core.actions.live.backup import NoBackup, backups_of
from rellum.core.change.backing_up import back_up, players_files
from rellum.core.change.execute import execute
from rellum.core.change.opening import open_pack
from rellum.core.change.plan import Plan
from rellum.core.change.players_plan import KeptFiles, plan_players
from rellum.core.change.request import Request
from rellum.core.nearest import nearest
from rellum.core.pack.backup import Backup, Made
from rellum.core.pack.backups import Backups
from rellum.core.pack.session import Session
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, shown


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
    with open_pack(request) as opened:
        with backups_of(opened) as backups:
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
    files = backups.files_of(backup.number)
    chosen = _chosen(files, paths, backup)
    known = {path: each for path, each in chosen.items() if is_known(path, opened)}
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


def is_known(path: PlacePath, opened: Session) -> bool:
    """Whether a path lies in a place that this game has."""
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
