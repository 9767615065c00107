"""The journal: what makes a change all or nothing.

The file ``.rellum/journal`` exists only while a change is under way. It holds JSON texts, one a
line, in this order:

``begin``
    The change's id and action, the game folder and the staging folder. Written and flushed before
    anything else happens. *If it is the last whole line*: nothing in the game folder has changed
    but the staging folder. Recovery removes that, and the journal.

``operation`` (any number), ``extent``, ``ready``
    Appended together, by one write and one flush, after (1) every new file lies in the staging
    folder, verified, and (2) everything that will be replaced or removed lies in the store of
    originals, verified, and (3) both were flushed to disk. ``ready`` carries the BLAKE3 hash of all
    bytes before it, so that a torn write is never taken for one. *It proves* that the change can be
    both finished and undone from what is on disk. Then the files are renamed into place or removed,
    one by one; each of these steps is atomic and can be repeated.

``undo``
    Written and flushed when a step failed, before the first is taken back. *It proves* that the
    change is on its way back: recovery goes on undoing. It is written over blanks that were put
    after ``ready`` for it, so that a full disk cannot refuse it.

Finished means recorded: the state (SQLite) holds the change's id, in the same transaction as what
the change made of the state, after the game folder was flushed. Then the staging folder and what
the store no longer needs are removed, and last the journal.

Recovery, by what it finds: no ``ready``: undo (nothing to take back). ``ready`` and the id is in the
state: clean up. ``ready``, no ``undo``: finish; if that fails, append ``undo`` and undo. ``undo``: undo.
A file that is neither as it was before nor as it is after was changed by somebody else since: it
is left alone and named.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from typing import Any

from rellum.core.change.disk import Disk
from rellum.core.folder.content import Content, Laid
from rellum.core.hashing import hash_bytes
from rellum.core.pack.state import Kept, StateChange
from rellum.core.paths import PlacePath

FORMAT = 1
_RESERVE = b" " * 63 + b"\n"


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One file of the game folder: as it is before and after. ``staged`` names its staged file."""

    path: PlacePath
    before: Content | None
    after: Content | None
    staged: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Journal:
    """A journal that was read back, or is about to be written."""

    id: str
    action: str
    game_folder: str
    staging: str
    steps: tuple[Step, ...] = ()
    new_folders: tuple[PlacePath, ...] = ()
    spare_folders: tuple[PlacePath, ...] = ()
    laid: tuple[Laid, ...] = ()
    no_longer_laid: tuple[PlacePath, ...] = ()
    kept: tuple[Kept, ...] = ()
    is_ready: bool = False
    is_undoing: bool = False

    def state_change(self) -> StateChange:
        """Return what the finished change makes of the state."""
        return StateChange(
            id=self.id,
            action=self.action,
            laid=self.laid,
            no_longer_laid=self.no_longer_laid,
            kept=self.kept,
            new_folders=self.new_folders,
            gone_folders=self.spare_folders,
        )


def write_begin(path: str, journal: Journal, disk: Disk) -> None:
    """Begin the journal, durably."""
    disk.write_durably(path, _begin_line(journal))


def append_ready(path: str, journal: Journal, disk: Disk) -> None:
    """Append everything that recovery needs, durably."""
    body = b"".join(_step_line(step) for step in journal.steps) + _extent_line(journal)
    proof = hash_bytes(_begin_line(journal) + body)
    disk.append_durably(path, body + _line({"ready": proof}) + _RESERVE)


def note_undo(path: str, disk: Disk) -> None:
    """Note, durably, that the change is being taken back; needless before ``ready`` is there."""
    size = os.path.getsize(path)
    with open(path, "rb") as file:
        file.seek(max(0, size - len(_RESERVE)))
        if file.read() != _RESERVE:
            return
    disk.overwrite_durably(path, size - len(_RESERVE), _line({"undo": True}))


def read_journal(path: str) -> Journal | None:
    """Read a journal back. None where there is none, or not even its first line is whole."""
    try:
        with open(path, "rb") as file:
            lines = file.read().splitlines(keepends=True)
    except FileNotFoundError:
        return None
    values = list(map(_value, lines))
    if not values or values[0] is None or "begin" not in values[0]:
        return None
    begin = values[0]["begin"]
    journal = Journal(
        id=begin["id"], action=begin["action"], game_folder=begin["game"], staging=begin["staging"]
    )
    proof_at = next((n for n, value in enumerate(values) if value and "ready" in value), 0)
    if not proof_at or values[proof_at] != {"ready": hash_bytes(b"".join(lines[:proof_at]))}:
        return journal
    return _whole(journal, values[1:proof_at], {"undo": True} in values[proof_at:])


def _whole(journal: Journal, values: list[dict[str, Any] | None], undoing: bool) -> Journal:
    """Take in what ``ready`` has proven whole."""
    steps = []
    extent: dict[str, Any] = {}
    for value in values:
        if value and "operation" in value:
            steps.append(_step(value["operation"]))
        elif value and "extent" in value:
            extent = value["extent"]
    return Journal(
        id=journal.id,
        action=journal.action,
        game_folder=journal.game_folder,
        staging=journal.staging,
        steps=tuple(steps),
        new_folders=tuple(extent["new-folders"]),
        spare_folders=tuple(extent["spare-folders"]),
        laid=tuple(
            Laid(path=path, owner=owner, content=_whole_content(content), under=_content(under))
            for path, owner, content, under in extent["laid"]
        ),
        no_longer_laid=tuple(extent["no-longer-laid"]),
        kept=tuple(
            Kept(path=path, digest=digest, size=size) for path, digest, size in extent["kept"]
        ),
        is_ready=True,
        is_undoing=undoing,
    )


def _begin_line(journal: Journal) -> bytes:
    return _line(
        {
            "begin": {
                "format": FORMAT,
                "id": journal.id,
                "action": journal.action,
                "game": journal.game_folder,
                "staging": journal.staging,
            }
        }
    )


def _step_line(step: Step) -> bytes:
    return _line({"operation": [step.path, _listed(step.before), _listed(step.after), step.staged]})


def _extent_line(journal: Journal) -> bytes:
    extent = {
        "new-folders": journal.new_folders,
        "spare-folders": journal.spare_folders,
        "laid": [
            [laid.path, laid.owner, _listed(laid.content), _listed(laid.under)]
            for laid in journal.laid
        ],
        "no-longer-laid": journal.no_longer_laid,
        "kept": [[kept.path, kept.digest, kept.size] for kept in journal.kept],
    }
    return _line({"extent": extent})


def _line(value: object) -> bytes:
    # Escapes keep every name that the folder can hold, whole UTF-8 or not.
    return json.dumps(value, separators=(",", ":")).encode("ascii") + b"\n"


def _value(line: bytes) -> dict[str, Any] | None:
    try:
        value = json.loads(line.strip() or b"null")
    except ValueError:
        return None
    return value if isinstance(value, dict) else None


def _step(value: list[Any]) -> Step:
    path, before, after, staged = value
    return Step(path=path, before=_content(before), after=_content(after), staged=staged)


def _listed(content: Content | None) -> list[object] | None:
    if content is None:
        return None
    return [content.digest, content.size, content.mode, content.mtime_ns]


def _content(value: list[Any] | None) -> Content | None:
    return None if value is None else _whole_content(value)


def _whole_content(value: list[Any]) -> Content:
    digest, size, mode, mtime_ns = value
    return Content(digest=digest, size=size, mode=mode, mtime_ns=mtime_ns)
