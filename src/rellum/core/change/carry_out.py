"""From a ready journal to its end, forwards or back. Every step can be repeated after an interruption.

The order is the journal's contract (``rellum.core.change.journal``).
"""

from __future__ import annotations

import os
import stat
from collections import Counter
from collections.abc import Iterable, Mapping

from rellum.core.change.journal import Journal, PackChange, Step, note_undo, write_second_copy
from rellum.core.change.letting_go import let_go_of_strays
from rellum.core.hashing import Digest, hash_file
from rellum.core.pack.disk import Disk, refuse_links_above
from rellum.core.pack.home import read_text
from rellum.core.pack.originals import FolderChanged, OriginalDamaged
from rellum.core.pack.site import Site
from rellum.core.pack.state import State
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath, Roots, parents, root_of, shown


def carry_out(journal: Journal, site: Site) -> None:
    """Carry out a ready change, from wherever it stands, and record it.

    ``settle`` and ``clean_up`` come after it. Raises OSError, RellumError, sqlite3.Error.
    """
    disk, roots = site.disk, journal.roots
    write_second_copy(site.home.journal_file, journal, disk)
    touched: set[PlacePath] = set()
    good: set[str] = set()
    for folder in journal.new_folders:
        absolute = roots.absolute(folder)
        refuse_links_above(roots.folder_of(folder), absolute, good)
        disk.make_folder(absolute)
        touched.add(folder_above(folder))
    for step in journal.steps:
        path = roots.absolute(step.path)
        staged = os.path.join(journal.staging_of(step.path), step.staged)
        refuse_links_above(roots.folder_of(step.path), path, good)
        refuse_links_above(roots.folder_of(step.path), staged, good)
        _take_step(step, path, staged, disk)
        touched.add(folder_above(step.path))
    for changed, _, mode in journal.modes:
        _set_mode(changed, mode, journal, disk, good)
    for folder in journal.spare_folders:
        # One that holds something of the user's stays, and is no longer Rellum's.
        disk.remove_folder(roots.absolute(folder))
        touched.add(folder_above(folder))
    flush_folders(touched, roots, disk)
    disk.step("record")
    site.state.record(journal.state_change())


def _set_mode(path: PlacePath, mode: int, journal: Journal, disk: Disk, good: set[str]) -> None:
    """Change a file's mode alone, where the file is still there."""
    file = journal.roots.absolute(path)
    refuse_links_above(journal.roots.folder_of(path), file, good, may_lack=True)
    if os.path.isfile(file) and not os.path.islink(file):
        disk.set_mode(file, mode)


def settle(journal: Journal, site: Site) -> None:
    """Do what a recorded change does outside the game: the pack's texts, and what was swept."""
    _write_pack_texts(journal.pack, site)
    if journal.swept_to:
        _lay_out_swept(journal, site)
    for file, digest in journal.spent:
        if os.path.isfile(file) and hash_file(file) == digest:
            site.disk.remove(file)


def swept_file(folder: str, path: PlacePath) -> str:
    """Return where a swept file lies in the folder of its sweep: ``game/…``, ``settings/…``."""
    return os.path.join(folder, *path[1:].split("/"))


def _lay_out_swept(journal: Journal, site: Site) -> None:
    """Lay what was swept into its folder; what is there already was laid before an interruption."""
    files = []
    swept = set(journal.swept)
    for folder in journal.spare_folders:
        if not os.path.isdir(journal.roots.absolute(folder)):  # it comes back with its sweep
            os.makedirs(swept_file(journal.swept_to, folder), exist_ok=True)
    for step in journal.steps:
        target = swept_file(journal.swept_to, step.path)
        is_swept = step.path in swept and step.before is not None and step.after is None
        if not is_swept or step.before is None or os.path.lexists(target):
            continue
        os.makedirs(os.path.dirname(target), exist_ok=True)
        incoming = target + ".rellum-new"
        _stage_back(step, step.before, incoming, site, keep=False)
        site.disk.move_over(incoming, target)
        files.append(target)
    if files:
        folders = sorted({os.path.dirname(file) for file in files})
        site.disk.flush(os.path.dirname(journal.swept_to), files, folders)


def _write_pack_texts(pack: PackChange, site: Site) -> None:
    """Write those of the pack's texts that a change makes other. Raises OSError."""
    for name, text in pack.others:
        path = os.path.join(site.home.folder, name)
        if text is None:
            if os.path.lexists(path):
                site.disk.remove_durably(path)
        elif read_text(path) != text:
            os.makedirs(os.path.dirname(path), exist_ok=True)
            site.disk.write_durably(path, text.encode("utf-8", "surrogateescape"))
    becoming = dict(pack.becoming or ())
    for name in pack.writes:
        path = os.path.join(site.home.folder, name)
        if name not in becoming:
            site.disk.remove_durably(path)
        elif read_text(path) != becoming[name]:
            site.disk.write_durably(path, becoming[name].encode("utf-8", "surrogateescape"))


def folder_above(path: PlacePath) -> PlacePath:
    """Return the folder that a path lies in; a root lies in itself, as far as Rellum goes."""
    return next(parents(path), path)


def flush_folders(folders: Iterable[PlacePath], roots: Roots, disk: Disk) -> None:
    """Make the names in folders durable, where these are still there. Raises OSError."""
    by_root: dict[str, list[str]] = {}
    for folder in sorted(folders):
        absolute = roots.absolute(folder)
        if os.path.isdir(absolute):
            by_root.setdefault(roots.folder_of(folder), []).append(absolute)
    for root, absolutes in by_root.items():
        disk.flush(root, [], absolutes)


def flush_files(staged: Mapping[PlacePath, str], roots: Roots, disk: Disk) -> None:
    """Make staged files durable, and their names. Raises OSError."""
    by_root: dict[str, list[str]] = {}
    for path, file in staged.items():
        by_root.setdefault(roots.folder_of(path), []).append(file)
    for root, files in by_root.items():
        disk.flush(root, files, [os.path.dirname(files[0]), root])


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
        left = undo_steps(journal, site)
    clean_up(journal, site, is_recorded=False, spare=reversed(journal.made_for_roots))
    return tuple(left)


def undo_steps(journal: Journal, site: Site, *, goes_on: bool = False) -> list[PlacePath]:
    """Bring back what stood before. As on the way forwards, all is staged and flushed first.

    Return what could not be: files that somebody else changed since, and if it ``goes_on`` without them also
    those whose original is damaged. Nothing is written through a link. Raises OSError, RellumError.
    """
    disk, roots = site.disk, journal.roots
    left: list[PlacePath] = []
    good: set[str] = set()
    backs: dict[PlacePath, str] = {}
    needed = site.state.needed_counts()
    uses = Counter(step.before.digest for step in journal.steps if step.before)
    touched = {folder_above(step.path) for step in journal.steps}
    for root in {root_of(each) for each in touched}:
        disk.make_folder(journal.staging_of(PlacePath(root)))
    for folder in reversed(journal.spare_folders):
        refuse_links_above(roots.folder_of(folder), roots.absolute(folder), good, may_lack=True)
        disk.make_folder(roots.absolute(folder))
    for changed, mode, _ in reversed(journal.modes):
        _set_mode(changed, mode, journal, disk, good)
    for number, step in enumerate(reversed(journal.steps)):
        path = roots.absolute(step.path)
        refuse_links_above(roots.folder_of(step.path), path, good, may_lack=True)
        now = _stamp(path)
        if now == _stamp_of(step.before):
            if step.before and stat.S_IMODE(os.lstat(path).st_mode) != step.before.mode:
                os.chmod(path, step.before.mode)  # it was lifted to replace the file
            continue
        if now is not None and now != _stamp_of(step.after):
            left.append(step.path)
        elif step.before is None:
            disk.remove(path)
        else:
            back = os.path.join(journal.staging_of(step.path), f"back-{number:07}")
            # Two files of one content must not become two names of one file.
            keep = step.before.digest in needed or uses[step.before.digest] > 1 or goes_on
            try:
                _stage_back(step, step.before, back, site, keep=keep)
            except OriginalDamaged:
                if not goes_on:
                    raise
                left.append(step.path)
                continue
            backs[step.path] = back
    flush_files(backs, roots, disk)
    for back_to, back in backs.items():
        if goes_on:  # folders that went may not be known any more
            os.makedirs(os.path.dirname(roots.absolute(back_to)), exist_ok=True)
        disk.move_over(back, roots.absolute(back_to))
    for folder in reversed(journal.new_folders):
        refuse_links_above(roots.folder_of(folder), roots.absolute(folder), good, may_lack=True)
        disk.remove_folder(roots.absolute(folder))
    touched |= {folder_above(folder) for folder in journal.new_folders}
    flush_folders(touched, roots, disk)
    return left


def _stage_back(step: Step, content: Content, target: str, site: Site, *, keep: bool) -> None:
    site.disk.remove(target)
    site.originals.bring_out(content.digest, target, name=shown(step.path), keep=keep)
    site.disk.set_mode_and_time(target, content.mode, content.mtime_ns)


def spare_roots(journal: Journal) -> list[str]:
    """Return the folders of places in which nothing is left to be, once the change is done."""
    return [journal.roots.absolute(each) for each in journal.spare_folders if each == root_of(each)]


def clean_up(journal: Journal, site: Site, *, is_recorded: bool, spare: Iterable[str] = ()) -> None:
    """Remove what only the change needed, folders in ``spare`` that are empty, and last the journal.

    These are folders in which there was a staging folder until now. ``is_recorded``: the change is done, and
    not taken back.
    """
    for staging in journal.stagings():
        site.disk.remove_tree(staging)
    for folder in spare:
        site.disk.remove_folder(folder)
    if not is_recorded:
        let_go_of_strays(site, journal)
    elif site.state.has_forgotten or journal.kept_gone:
        site.originals.let_go_of_all_but(site.state.needed_counts())
    else:
        site.originals.let_go(_no_longer_needed(journal, site.state))
    site.disk.remove_durably(site.home.journal_file)


def _no_longer_needed(journal: Journal, state: State) -> Iterable[Digest]:
    handled = {
        content.digest for step in journal.steps for content in (step.before, step.after) if content
    }
    handled |= {content.digest for _, content in journal.settings}
    handled |= {laid.base for laid in journal.laid if laid.base} | set(journal.bases_before)
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
        hint="Close the program that writes to the game folder, then try again.",
    )
