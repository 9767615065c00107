"""Plans for the player's own files: from a backup into the game, and out of it into one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from rellum.core.change.folders import new_folders, refuse_files_above
from rellum.core.change.operations import (
    BringBack,
    Found,
    LayAgain,
    Operation,
    Remove,
    SetAside,
)
from rellum.core.change.plan import Plan
from rellum.core.hashing import Digest
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import State
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import FOREIGN, VANILLA
from rellum.core.values.paths import PlacePath, Roots

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive
    from rellum.core.layers.model import Brought

FileOf = Callable[[Digest], str]
"""Returns the file on disk that has a content."""


class KeptFiles:
    """Sources for changes that bring nothing but files which lie on disk as they are."""

    def archive(self, digest: Digest) -> Archive:
        """Return nothing: nobody may ask."""
        raise AssertionError(f"this change unpacks nothing, yet asks for {digest}")

    def file(self, brought: Brought) -> str:
        """Return the file itself."""
        from rellum.core.layers.model import DiskFile

        assert isinstance(brought, DiskFile)
        return brought.file


def plan_players(
    wanted: Mapping[PlacePath, Content | None], state: State, roots: Roots, file_of: FileOf
) -> Plan:
    """Plan so that files of the player's become these; None: nothing stands there.

    What a mod laid does not go: its content alone can become another. Raises CannotLay.
    """
    operations = players_operations(wanted, state, roots, file_of)
    refuse_files_above((each.path for each in operations if each.after), roots)
    baseline = state.baseline(wanted)
    folders = tuple(new_folders(operations, baseline, (), roots))
    return Plan(operations=tuple(operations), new_folders=folders, others_folders=folders)


def players_operations(
    wanted: Mapping[PlacePath, Content | None],
    state: State,
    roots: Roots,
    file_of: FileOf,
    rows: Mapping[PlacePath, Laid] | None = None,
) -> list[Operation]:
    """Return what makes the player's files these, by path.

    ``rows`` are what will be laid then, where that is not what is laid now.
    """
    from rellum.core.layers.model import DiskFile

    laid, vanilla = state.laid(wanted), state.baseline(wanted)
    operations: list[Operation] = []
    for path, content in sorted(wanted.items()):
        row, entry = laid.get(path), vanilla.get(path)
        native = entry.content if entry else None
        now, changed = content_at(roots, path, row.content if row else native)
        if (now.digest if now else None) == (content.digest if content else None):
            continue
        found = Found(now, row.owner if row else VANILLA if native else FOREIGN, changed)
        row = rows.get(path) if rows is not None else row
        if content is None:
            if row is None:
                operations.append(Remove(path, found) if native else SetAside(path, found))
            continue
        source = DiskFile(
            path=path, file=file_of(content.digest), digest=content.digest, size=content.size
        )
        if row is not None:
            operations.append(LayAgain(path, found, row, tellable(content, row), source))
        else:
            owner = VANILLA if native else FOREIGN
            operations.append(BringBack(path, found, content, owner, source))
    return operations


def tellable(wanted: Content, row: Laid) -> Content:
    """Return a content with a time by which it can be told from what its mod had laid.

    Who changed a settings file behind its size and time must not make a state of it that is not so.
    """
    left = row.content
    if left is None or wanted.digest == left.digest:
        return wanted
    is_alike = (wanted.size, wanted.mtime_ns) == (left.size, left.mtime_ns)
    return wanted._replace(mtime_ns=wanted.mtime_ns + 1) if is_alike else wanted
