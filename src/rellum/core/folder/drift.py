"""Drift: what in the game folder is not as Rellum left it, and whose it is."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, Protocol

from rellum.core.folder.differences import Differences
from rellum.core.folder.hashes import hash_files
from rellum.core.folder.model import Drift, DriftKind, Finding
from rellum.core.globs import PathTest
from rellum.core.hashing import Digest
from rellum.core.progress import Listener, silent
from rellum.core.values.content import UNKNOWN_SIZE, Content, Laid
from rellum.core.values.owners import RELLUM, VANILLA, Owner
from rellum.core.values.path_rules import EXACT, PathRules
from rellum.core.values.paths import PlacePath, Roots


class Vanilla(Protocol):
    """A vanilla entry, as the baseline holds it."""

    @property
    def path(self) -> PlacePath: ...
    @property
    def content(self) -> Content | None: ...


class OwnFiles(NamedTuple):
    """Patterns of what the game writes itself, of the user's own files, and of settings.

    What the user changes in the last two is meant, in vanilla files as in those of mods.
    """

    of_the_game: tuple[str, ...] = ()
    of_the_user: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    path_rules: PathRules = EXACT

    def is_the_games(self) -> PathTest:
        """Return the test of what the game writes itself."""
        return self.path_rules.test(self.of_the_game)

    def is_the_users(self) -> PathTest:
        """Return the test of the user's own files."""
        return self.path_rules.test(self.of_the_user)

    def may_change(self) -> PathTest:
        """Return the test of files in which the user's changes are meant."""
        return self.path_rules.test((*self.of_the_user, *self.settings))


class Expected(Protocol):
    """What Rellum last left in the folder: the part of the state that drift is compared with."""

    def laid(self, paths: Sequence[PlacePath]) -> Mapping[PlacePath, Laid]: ...
    def baseline(self, paths: Sequence[PlacePath]) -> Mapping[PlacePath, Vanilla]: ...


def find_drift(
    differences: Differences,
    expected: Expected,
    roots: Roots,
    own: OwnFiles,
    has_original: Callable[[Digest], bool],
    *,
    looks_at_own: bool = True,
) -> Drift:
    """Say what the differences are; hash only what differs. Raises OSError.

    ``own`` files are no drift; ``looks_at_own``: they are hashed too.
    """
    paths = sorted({*differences.gone, *differences.other, *differences.come})
    owners = _Owners(expected.laid(paths), expected.baseline(paths), has_original)
    if not paths:
        own = OwnFiles()  # patterns take a moment to compile
    is_own, is_the_users, may_change = own.is_the_games(), own.is_the_users(), own.may_change()
    unseen: list[PlacePath] = []
    if not looks_at_own:
        unseen = [path for path in differences.other if is_own(path) or may_change(path)]
        paths = sorted({*paths} - {*unseen})
    judged = [(path, _judge(path, differences, owners, roots)) for path in paths]
    findings: list[Finding] = []
    touched: list[PlacePath] = []
    own_changes = unseen
    by_game: list[PlacePath] = []
    for path, finding in judged:
        if finding is None:
            touched.append(path)
        elif is_own(path):
            by_game.append(path)
        elif _is_meant(finding, owners, is_the_users, may_change):
            own_changes.append(path)
        else:
            findings.append(finding)
    return Drift(
        findings=tuple(findings),
        touched=tuple(touched),
        own_changes=tuple(own_changes),
        written_by_game=tuple(by_game),
        files_seen=differences.files_seen,
        files_hashed=len(touched) + sum(each.detail == _OTHER_CONTENT for each in findings),
    )


def _is_meant(
    finding: Finding, owners: _Owners, is_the_users: PathTest, may_change: PathTest
) -> bool:
    """Whether a finding is what the user did in files that are the user's to change."""
    path = finding.path
    if finding.owner in (None, VANILLA) and is_the_users(path):
        return True  # whatever became of it; it may have been there when the game was adopted
    if finding.kind != "changed" or owners.is_taken_away(path):
        return False
    return owners.is_the_users(path) or (finding.owner == VANILLA and may_change(path))


_OTHER_CONTENT = "content differs"

UNSEEN = "content differs, size and time do not"
"""Said of a file that only a look at every byte can find changed."""


@dataclass(frozen=True, slots=True)
class _Owners:
    """Whose each path is, what it held when it was left, and whether an original is kept."""

    laid: Mapping[PlacePath, Laid]
    vanilla: Mapping[PlacePath, Vanilla]
    has_original: Callable[[Digest], bool]

    def owner(self, path: PlacePath) -> Owner | None:
        """Return whose a path is; None where it is nobody's."""
        if path in self.laid:
            return self.laid[path].owner
        return VANILLA if path in self.vanilla else None

    def content(self, path: PlacePath) -> Content | None:
        """Return what was left there; None where that was no file."""
        if path in self.laid:
            return self.laid[path].content
        return self.vanilla[path].content if path in self.vanilla else None

    def is_the_users(self, path: PlacePath) -> bool:
        """Whether the user's changes of a file are meant to be."""
        return path in self.laid and self.laid[path].role != ""

    def is_taken_away(self, path: PlacePath) -> bool:
        """Whether a layer wants nothing to be there."""
        return path in self.laid and self.laid[path].content is None

    def is_restorable(self, path: PlacePath) -> bool:
        """Whether ``restore`` can bring back what lies under the path."""
        if path in self.laid:
            return self.laid[path].owner != RELLUM
        content = self.content(path)
        return content is not None and self.has_original(content.digest)


def _judge(
    path: PlacePath, differences: Differences, owners: _Owners, roots: Roots
) -> Finding | None:
    """Say what is with a path that differs; None where only its time does. Raises OSError."""
    kind: DriftKind
    if path in differences.gone:
        kind, detail = "missing", _missing_words(differences.gone[path])
    elif path in differences.come and owners.is_taken_away(path):
        kind, detail = "changed", f"is back, although {owners.owner(path)} removed it"
    elif path in differences.come:
        kind, detail = "foreign", _foreign_words(differences.come[path])
    else:
        before, now = differences.other[path]
        kind, detail = "changed", _what_changed(path, before, now, owners.content(path), roots)
        if not detail:
            return None
    return Finding(
        path=path,
        kind=kind,
        owner=owners.owner(path) if kind != "foreign" else None,
        detail=detail,
        has_original=owners.is_restorable(path),
    )


def find_deep_drift(
    drift: Drift,
    files: Sequence[tuple[PlacePath, Content, Owner]],
    roots: Roots,
    own_files: OwnFiles,
    has_original: Callable[[Digest], bool],
    listen: Listener = silent,
) -> Drift:
    """Hash files that a quick look found unchanged, and add what is not as recorded.

    ``files`` are some or all that should be there, with their owner. Raises OSError.
    """
    is_own, may_change = own_files.is_the_games(), own_files.may_change()
    known = {finding.path for finding in drift.findings} | set(drift.own_changes)
    waiting = [
        each
        for each in files
        if each[0] not in known
        and not is_own(each[0])
        and not (each[2] == VANILLA and may_change(each[0]))
    ]
    digests = hash_files(
        [(roots.absolute(path), content.size) for path, content, _ in waiting], "hashing", listen
    )
    more = [
        Finding(
            path=path,
            kind="changed",
            owner=owner,
            detail=UNSEEN,
            has_original=owner not in (VANILLA, RELLUM)
            or (owner == VANILLA and has_original(content.digest)),
        )
        for (path, content, owner), digest in zip(waiting, digests, strict=True)
        if digest is not None and digest != content.digest
    ]
    findings = sorted([*drift.findings, *more], key=lambda finding: finding.path)
    hashed = drift.files_hashed + len(waiting)
    return replace(drift, findings=tuple(findings), files_hashed=hashed)


def _missing_words(row: str) -> str:
    return "the folder is gone" if _is_folder(row) else "the file is gone"


def _foreign_words(row: str) -> str:
    if _is_folder(row):
        return "an empty folder"
    if "//" in row:
        return "a link"
    return _bytes_words(row.split("/")[1])


def _bytes_words(size: str) -> str:
    return "1 byte" if size == "1" else f"{int(size):,} bytes"


def _is_folder(row: str) -> bool:
    return row.endswith("/") and "//" not in row


def _what_changed(
    path: PlacePath, before: str, now: str, known: Content | None, roots: Roots
) -> str:
    """Say what differs from the record; nothing if only the time does."""
    _, size_before, *_ = before.split("/")
    _, size_now, *_ = now.split("/")
    if known is None or not size_now:
        return (
            "it was a file and is not one now" if known else "it is a different kind of entry now"
        )
    if known.size == UNKNOWN_SIZE:
        return "is not the vanilla file of this version"
    if size_before != size_now:
        return f"{_bytes_words(size_before)} before, {int(size_now):,} now"
    [digest] = hash_files([(roots.absolute(path), known.size)], "hashing")
    return "" if digest == known.digest else _OTHER_CONTENT
