"""The journal: what makes a change all or nothing.

The file ``.rellum/journal`` exists only while a change is under way. It holds JSON texts, one a
line, each with a check of its own (``journal_lines``), in this order:

``begin``
    The change's id and action, the game folder and the places outside of it that are touched. Each of
    these has a staging folder in it. Written and flushed before anything else happens. *If it is the
    last whole line*: nothing has changed but the staging folders, and the folders of places that were
    not there before. Recovery removes these, and the journal.

``operation`` (any number), ``extent``, ``ready``
    Appended together, by one write and one flush, after (1) every new file lies in a staging
    folder, verified, and (2) everything that will be replaced or removed lies in the store of
    originals, verified, and (3) both were flushed to disk. ``ready`` carries the BLAKE3 hash of all
    bytes before it, so that a torn write is never taken for one. *It proves* that the change can be
    both finished and undone from what is on disk. Then the files are renamed into place or removed,
    one by one; each of these steps is atomic and can be repeated.

``undo``
    Written and flushed when a step failed, before the first is taken back. *It proves* that the
    change is on its way back: recovery goes on undoing. It is written over blanks that were put
    after ``ready`` for it, so that a full disk cannot refuse it.

Before the first of them a second copy of the journal is written, and flushed, into the staging folder of the
game: on another disk, mostly. *It proves* that a change began, whatever became of the journal. Where that
is cut short, damaged or gone, and the copy is whole, the copy takes its place. Where the journal ends early
and there is no copy, nothing had moved.

Finished means recorded: the state (SQLite) holds the change's id, in the same transaction as what
the change made of the state and the checkpoint of what was before, after the game folder was
flushed. Then, each step of it repeatable, rellum.toml and rellum.lock are written where the change has
other texts for them, and what was swept is laid into its folder outside the game, out of the store of
originals; the staging folders and what the store no longer needs are removed, and last the journal.

Recovery, by what it finds (``journal_reading``): no ``ready``, as the file ends before it was complete, and
no second copy: undo (nothing to take back). ``ready`` and the id is in the state: do what comes after that
again, and clean up. ``ready``, no ``undo``: finish; if that fails, note ``undo`` and undo. ``undo``: undo. A
line that fails its check, and no whole copy: nothing is done, until a person asks for it
(``rellum.core.actions.mend.interrupted``).
A file that is neither as it was before nor as it is after was changed by somebody else since: it
is left alone and named. A content leaves the store of originals only where the change is recorded, or where
the folder was seen to have it without the store (``letting_go``).
"""

from __future__ import annotations

import os
from typing import NamedTuple

from rellum.core.change.journal_lines import RESERVE, UNDO, line_of, read_lines
from rellum.core.change.plan import ModeChange
from rellum.core.folder.stamps import STAGING_NAME, second_journal
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.disk import Disk
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.state_change import BaselineChange, Before, PackTexts, SettingRow, StateChange
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import owner_fields
from rellum.core.values.paths import PlacePath, Roots

FORMAT = 5
_KEPT_FIELDS = 7
"""How many fields of a kept copy a journal holds; the others are given to it in the list."""


class Step(NamedTuple):
    """One file of the game folder: as it is before and after. ``staged`` names its staged file."""

    path: PlacePath
    before: Content | None
    after: Content | None
    staged: str


class PackChange(NamedTuple):
    """What a change makes of rellum.toml and rellum.lock.

    becoming: the texts that the folder is made by from now on; None where these stay
    writes: the names of those to write, or to remove where there is no text
    others: further files of the pack to be written, by their paths in its folder, with their texts; None: to
        be removed
    by_last_change: the checkpoint has the texts that the folder was made by until now, and not those
        that stand, as these are already what the change is for
    """

    becoming: PackTexts | None = None
    writes: tuple[str, ...] = ()
    others: tuple[tuple[str, str | None], ...] = ()
    by_last_change: bool = False


PACK_STAYS = PackChange()


class Journal(NamedTuple):
    """A journal that was read back, or is about to be written.

    ``pack_id`` names the pack; it is empty in journals of an older Rellum. ``roots`` are the game folder and
    the places outside of it that the change touches. ``made_for_roots`` are absolute folders that must be
    made before there can be such a place, the outer first. ``brings`` are contents that come into the store
    of originals from elsewhere.
    ``bases_before`` are what releases wanted of merged files until now. ``settings`` and ``standing`` are
    for the checkpoint before the change: the settings, and the pack's texts. ``pack`` is what becomes of
    these; ``baseline`` and ``identity`` say it of the game, where going back changes what it is. The rest
    is as in a plan.
    """

    id: str
    action: str
    roots: Roots
    pack_id: str = ""
    made_for_roots: tuple[str, ...] = ()
    brings: tuple[Digest, ...] = ()
    steps: tuple[Step, ...] = ()
    new_folders: tuple[PlacePath, ...] = ()
    spare_folders: tuple[PlacePath, ...] = ()
    laid: tuple[Laid, ...] = ()
    no_longer_laid: tuple[PlacePath, ...] = ()
    kept: tuple[Kept, ...] = ()
    returned: tuple[PlacePath, ...] = ()
    bases_before: tuple[Digest, ...] = ()
    settings: tuple[SettingRow, ...] = ()
    pack: PackChange = PACK_STAYS
    standing: PackTexts | None = None
    baseline: tuple[BaselineChange, ...] = ()
    identity: str = ""
    others_folders: tuple[PlacePath, ...] = ()
    swept_to: str = ""
    swept: tuple[PlacePath, ...] = ()
    kept_gone: tuple[int, ...] = ()
    unsure: tuple[PlacePath, ...] = ()
    modes: tuple[ModeChange, ...] = ()
    guarded: tuple[tuple[PlacePath, int], ...] | None = None
    stood: tuple[tuple[PlacePath, Content | None], ...] = ()
    spent: tuple[tuple[str, Digest], ...] = ()
    is_found: bool = False
    is_ready: bool = False
    is_undoing: bool = False

    def state_change(self) -> StateChange:
        """Return what the finished change makes of the state."""
        unlaid = set(self.no_longer_laid)
        return StateChange(
            id=self.id,
            action=self.action,
            laid=self.laid,
            no_longer_laid=self.no_longer_laid,
            kept=self.kept,
            new_folders=tuple(f for f in self.new_folders if f not in self.others_folders),
            gone_folders=self.spare_folders,
            outside=tuple(self.roots.outside.items()),
            returned=self.returned,
            before=Before(
                # The first of a path counts: what stood there before the game changed it.
                files=(*self.stood, *((step.path, step.before) for step in self.steps)),
                settings=self.settings,
                pack_texts=self.standing,
            ),
            pack_texts=self.pack.becoming,
            baseline=self.baseline,
            identity=self.identity,
            kept_gone=self.kept_gone,
            unsure=self.unsure,
            guarded=self.guarded,
            is_found=self.is_found,
            stands=tuple(
                (step.path, step.after) for step in self.steps if step.after and step.path in unlaid
            ),
        )

    def staging_of(self, path: PlacePath) -> str:
        """Return the staging folder on the file system that a path lies on."""
        return os.path.join(self.roots.folder_of(path), STAGING_NAME)

    def stagings(self) -> tuple[str, ...]:
        """Return all staging folders."""
        folders = (self.roots.game_folder, *self.roots.outside.values())
        return tuple(os.path.join(folder, STAGING_NAME) for folder in folders)


def write_begin(path: str, journal: Journal, disk: Disk) -> None:
    """Begin the journal, durably."""
    disk.write_durably(path, _begin_line(journal))


def append_ready(path: str, journal: Journal, disk: Disk) -> None:
    """Append everything that recovery needs, durably."""
    count = len(journal.steps)
    lines = [_step_line(number, step) for number, step in enumerate(journal.steps, 1)]
    body = b"".join(lines) + _extent_line(count + 1, journal)
    proof = hash_bytes(_begin_line(journal) + body)
    disk.append_durably(path, body + line_of(count + 2, {"ready": proof}) + RESERVE)


def write_second_copy(path: str, journal: Journal, disk: Disk) -> None:
    """Copy a ready journal into the game's staging folder, durably, unless it is there. Raises OSError."""
    copy = second_journal(journal.roots.game_folder)
    if not os.path.exists(copy):
        with open(path, "rb") as file:
            disk.write_durably(copy, file.read())


def note_undo(path: str, disk: Disk) -> None:
    """Note, durably, that the change is being taken back; not needed before ``ready``."""
    with open(path, "rb") as file:
        lines = read_lines(file.read())
    if not (lines.records and lines.records[-1] and "ready" in lines.records[-1]):
        return
    if lines.rest == RESERVE:
        disk.overwrite_durably(path, lines.ends[-1], UNDO)
    elif not lines.rest.strip():  # the blanks were cut off
        disk.append_durably(path, UNDO)


def _begin_line(journal: Journal) -> bytes:
    return line_of(
        0,
        {
            "begin": {
                "format": FORMAT,
                "id": journal.id,
                "pack": journal.pack_id,
                "action": journal.action,
                "game": journal.roots.game_folder,
                "outside": journal.roots.outside,
                "made-for-roots": journal.made_for_roots,
                "brings": journal.brings,
            }
        },
    )


def _step_line(number: int, step: Step) -> bytes:
    fields = [step.path, _listed(step.before), _listed(step.after), step.staged]
    return line_of(number, {"operation": fields})


def _extent_line(number: int, journal: Journal) -> bytes:
    extent = {
        "operations": len(journal.steps),
        "new-folders": journal.new_folders,
        "spare-folders": journal.spare_folders,
        "laid": [
            [
                laid.path,
                owner_fields(laid.owner),
                _listed(laid.content),
                _listed(laid.under),
                laid.role,
                laid.base,
            ]
            for laid in journal.laid
        ],
        "no-longer-laid": journal.no_longer_laid,
        "kept": [
            [*each[:4], owner_fields(each.owner), *each[5:_KEPT_FIELDS]] for each in journal.kept
        ],
        "returned": journal.returned,
        "bases-before": journal.bases_before,
        "settings": [[path, _listed(content)] for path, content in journal.settings],
        "pack": [journal.pack.becoming, journal.pack.writes, journal.pack.others],
        "standing": journal.standing,
        "baseline": journal.baseline,
        "identity": journal.identity,
        "others-folders": journal.others_folders,
        "swept-to": journal.swept_to,
        "swept": journal.swept,
        "kept-gone": journal.kept_gone,
        "unsure": journal.unsure,
        "modes": journal.modes,
        "guarded": journal.guarded,
        "stood": [[path, _listed(content)] for path, content in journal.stood],
        "spent": journal.spent,
        "is-found": journal.is_found,
    }
    return line_of(number, {"extent": extent})


def _listed(content: Content | None) -> list[object] | None:
    if content is None:
        return None
    return [content.digest, content.size, content.mode, content.mtime_ns]
