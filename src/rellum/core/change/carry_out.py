"""From a ready journal to its end, forwards or back. Every step can be repeated after an interruption.

The order is the journal's contract (``rellum.core.change.journal``).
"""

from __future__ import annotations

import os
import stat
from collections import Counter
from collections.abc import Iterable

from rellum.core.change.disk import Disk, refuse_links_above
from rellum.core.change.journal import Journal, Step, note_undo
from rellum.core.change.originals import FolderChanged
from rellum.core.change.site import Site
from rellum.core.folder.content import Content
from rellum.core.hashing import Digest
from rellum.core.pack.state import State
from rellum.core.paths import PlacePath, shown


def finish(journal: Journal, site: Site) -> None:
    """Bring a ready change to its end, from wherever it stands. Raises OSError, FolderChanged."""
    disk, roots = site.disk, site.roots
    touched: set[str] = set()
    good: set[str] = set()
    for folder in journal.new_folders:
        absolute = roots.absolute(folder)
        refuse_links_above(roots.game_folder, absolute, good)
        disk.make_folder(absolute)
        touched.add(os.path.dirname(absolute))
    for step in journal.steps:
        path = roots.absolute(step.path)
        refuse_links_above(roots.game_folder, path, good)
        _take_step(step, path, os.path.join(journal.staging, step.staged), disk)
        touched.add(os.path.dirname(path))
    for folder in journal.spare_folders:
        # One that holds something of the user's stays, and is no longer Rellum's.
        disk.remove_folder(roots.absolute(folder))
        touched.add(os.path.dirname(roots.absolute(folder)))
    still_there = sorted(each for each in touched if os.path.isdir(each))
    disk.flush(roots.game_folder, [], still_there)
    disk.step("record")
    site.state.record(journal.state_change())
    clean_up(journal, site)


def _take_step(step: Step, path: str, staged: str, disk: Disk) -> None:
    """Put one file into place, or remove it; do nothing where that is done already."""
    now = _stamp(path)
    if step.after is not None:
        if not os.path.lexists(staged) and now != _stamp_of(step.before):
            return  # done before an interruption
        if now != _stamp_of(step.before):
            raise _unexpected(path)
        disk.move_over(staged, path)
    elif now is not None:
        if now != _stamp_of(step.before):
            raise _unexpected(path)
        disk.remove(path)


def undo(journal: Journal, site: Site) -> tuple[PlacePath, ...]:
    """Take a change back, from wherever it stands; return the files left as somebody else made them.

    Raises OSError, RellumError; then it can be called again.
    """
    left: list[PlacePath] = []
    if journal.is_ready:
        if not journal.is_undoing and os.path.exists(site.home.journal_file):
            note_undo(site.home.journal_file, site.disk)
        left = _undo_steps(journal, site)
    clean_up(journal, site)
    return tuple(left)


def _undo_steps(journal: Journal, site: Site) -> list[PlacePath]:
    """Bring back what stood before. As on the way forwards, all is staged and flushed first."""
    disk, roots = site.disk, site.roots
    left: list[PlacePath] = []
    backs: dict[str, str] = {}
    needed = site.state.needed_counts()
    uses = Counter(step.before.digest for step in journal.steps if step.before)
    disk.make_folder(journal.staging)
    for folder in reversed(journal.spare_folders):
        disk.make_folder(roots.absolute(folder))
    for number, step in enumerate(reversed(journal.steps)):
        path = roots.absolute(step.path)
        now = _stamp(path)
        if now == _stamp_of(step.before):
            continue
        if now is not None and now != _stamp_of(step.after):
            left.append(step.path)
        elif step.before is None:
            disk.remove(path)
        else:
            backs[path] = os.path.join(journal.staging, f"back-{number:07}")
            # Two files of one content must not become two names of one file.
            keep = step.before.digest in needed or uses[step.before.digest] > 1
            _stage_back(step, step.before, backs[path], site, keep=keep)
    disk.flush(roots.game_folder, list(backs.values()), [journal.staging])
    for path, back in backs.items():
        disk.move_over(back, path)
    for folder in reversed(journal.new_folders):
        disk.remove_folder(roots.absolute(folder))
    touched = {os.path.dirname(roots.absolute(step.path)) for step in journal.steps}
    touched |= {os.path.dirname(roots.absolute(folder)) for folder in journal.new_folders}
    disk.flush(roots.game_folder, [], sorted(each for each in touched if os.path.isdir(each)))
    return left


def _stage_back(step: Step, content: Content, target: str, site: Site, *, keep: bool) -> None:
    site.disk.remove(target)
    site.originals.bring_out(content.digest, target, name=shown(step.path), keep=keep)
    site.disk.set_mode_and_time(target, content.mode, content.mtime_ns)


def clean_up(journal: Journal, site: Site) -> None:
    """Remove what only the change needed, and last the journal."""
    site.disk.remove_tree(journal.staging)
    if not journal.is_ready:
        site.originals.let_go_of_all_but(site.state.needed_counts())
    else:
        site.originals.let_go(_no_longer_needed(journal, site.state))
    site.disk.remove_durably(site.home.journal_file)


def _no_longer_needed(journal: Journal, state: State) -> Iterable[Digest]:
    handled = {
        content.digest for step in journal.steps for content in (step.before, step.after) if content
    }
    return sorted(handled - set(state.needed_counts()))


def _stamp(path: str) -> tuple[int, int] | None:
    """Return size and time (ns) of the file at a path; None where there is nothing."""
    try:
        status = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    if not stat.S_ISREG(status.st_mode):
        return (-1, -1)
    return (status.st_size, status.st_mtime_ns)


def _stamp_of(content: Content | None) -> tuple[int, int] | None:
    return None if content is None else (content.size, content.mtime_ns)


def _unexpected(path: str) -> FolderChanged:
    return FolderChanged(
        f"{path} changed while Rellum worked",
        hint="Close whatever writes to the game folder, then try again.",
    )
