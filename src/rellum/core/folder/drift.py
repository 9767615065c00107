"""Drift: what in the game folder is not as Rellum left it, and whose it is."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from rellum.core.folder.hashes import hash_files
from rellum.core.folder.model import RELLUM, VANILLA, Content, Drift, Finding, Laid
from rellum.core.folder.scan import scan_stamps, split_rows
from rellum.core.hashing import Digest
from rellum.core.paths import PlacePath, Roots
from rellum.core.progress import Listener, silent


class Vanilla(Protocol):
    """A vanilla entry, as the baseline holds it."""

    @property
    def path(self) -> PlacePath: ...
    @property
    def content(self) -> Content | None: ...


class Expected(Protocol):
    """What Rellum last left in the folder: the part of the state that drift is told from."""

    def stamps(self) -> dict[str, bytes]: ...
    def laid(self, paths: Sequence[PlacePath]) -> Mapping[PlacePath, Laid]: ...
    def baseline(self, paths: Sequence[PlacePath]) -> Mapping[PlacePath, Vanilla]: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class _Differences:
    """Paths whose row is not the recorded one: gone, come, or other; a row may be of any kind."""

    gone: dict[PlacePath, str]
    come: dict[PlacePath, str]
    other: dict[PlacePath, tuple[str, str]]
    files_seen: int


def find_drift(
    expected: Expected,
    roots: Roots,
    own_files: Callable[[], Sequence[str]],
    has_original: Callable[[Digest], bool],
) -> Drift:
    """Compare names, sizes and times of the whole folder; hash only what differs. Raises OSError.

    ``own_files`` gives the sheet's patterns for files that the game writes itself: no drift. It is
    asked only where something differs.
    """
    stamps = expected.stamps()
    scan = scan_stamps(roots.game_folder, stamps)
    differences = _differences(stamps, scan.differing, scan.missing, scan.files)
    paths = sorted({*differences.gone, *differences.other, *differences.come})
    is_own = _own_files_test(own_files() if paths else ())
    laid, vanilla = expected.laid(paths), expected.baseline(paths)
    findings: list[Finding] = []
    touched: list[PlacePath] = []
    hashed = 0
    for path in paths:
        if is_own(path):
            continue
        owner = laid[path].owner if path in laid else VANILLA if path in vanilla else ""
        known = (
            laid[path].content
            if path in laid
            else (vanilla[path].content if path in vanilla else None)
        )
        original = laid[path].under if path in laid else known
        has = path in laid or (original is not None and has_original(original.digest))
        if path in differences.gone:
            row = differences.gone[path]
            findings.append(_finding(path, "missing", owner, _missing_words(row), has))
        elif path in differences.come:
            findings.append(
                _finding(path, "foreign", "", _foreign_words(differences.come[path]), False)
            )
        else:
            before, now = differences.other[path]
            hashed += 1
            detail = _what_changed(path, before, now, known, roots)
            if detail:
                findings.append(_finding(path, "changed", owner, detail, has))
            else:
                touched.append(path)
    return Drift(
        findings=tuple(findings),
        touched=tuple(touched),
        files_seen=differences.files_seen,
        files_hashed=hashed,
    )


def find_deep_drift(
    drift: Drift,
    files: Sequence[tuple[PlacePath, Content, str]],
    roots: Roots,
    own_files: Sequence[str],
    listen: Listener = silent,
) -> Drift:
    """Hash every file that a quick look found unchanged, and add what is not as recorded.

    ``files`` are all files that should be there, with their owner. Raises OSError.
    """
    is_own = _own_files_test(own_files)
    known = {finding.path for finding in drift.findings}
    waiting = [each for each in files if each[0] not in known and not is_own(each[0])]
    digests = hash_files(
        [(roots.absolute(path), content.size) for path, content, _ in waiting], "hashing", listen
    )
    more = [
        _finding(path, "changed", owner, "content differs, size and time do not", False)
        for (path, content, owner), digest in zip(waiting, digests, strict=True)
        if digest is not None and digest != content.digest
    ]
    findings = sorted([*drift.findings, *more], key=lambda finding: finding.path)
    return Drift(
        findings=tuple(findings),
        touched=drift.touched,
        files_seen=drift.files_seen,
        files_hashed=drift.files_hashed + len(waiting),
    )


def _finding(path: PlacePath, kind: str, owner: str, detail: str, has_original: bool) -> Finding:
    return Finding(
        path=path,
        kind=kind,  # type: ignore[arg-type]  # one of the three, by the callers above
        owner=owner,
        detail=detail,
        has_original=has_original and owner != RELLUM,
    )


def _differences(
    recorded: Mapping[str, bytes],
    differing: Mapping[str, bytes],
    missing: frozenset[str],
    files_seen: int,
) -> _Differences:
    """Go into detail in the folders whose stamp differs."""
    gone: dict[PlacePath, str] = {}
    come: dict[PlacePath, str] = {}
    other: dict[PlacePath, tuple[str, str]] = {}
    for folder in missing:
        for name, row in _by_name(recorded[folder]).items():
            if not row.endswith("/"):
                gone[PlacePath(f"{folder}/{name}")] = row
    for folder, stamp in differing.items():
        before, now = _by_name(recorded.get(folder, b"")), _by_name(stamp)
        for name in before.keys() | now.keys():
            path = PlacePath(f"{folder}/{name}")
            if name not in now:
                gone[path] = before[name]
            elif name not in before:
                come[path] = now[name]
            elif before[name] != now[name]:
                other[path] = (before[name], now[name])
    # A new folder with files in it is told by its files.
    filled = {path.rpartition("/")[0] for path in come}
    come = {path: row for path, row in come.items() if not (row.endswith("/") and path in filled)}
    return _Differences(gone=gone, come=come, other=other, files_seen=files_seen)


def _by_name(stamp: bytes) -> dict[str, str]:
    return {row.partition("/")[0]: row for row in split_rows(stamp)}


def _missing_words(row: str) -> str:
    return "the folder is gone" if _is_folder(row) else "the file is gone"


def _foreign_words(row: str) -> str:
    if _is_folder(row):
        return "an empty folder"
    if "//" in row:
        return "a link"
    return f"{int(row.split('/')[1]):,} bytes"


def _is_folder(row: str) -> bool:
    return row.endswith("/") and "//" not in row


def _what_changed(
    path: PlacePath, before: str, now: str, known: Content | None, roots: Roots
) -> str:
    """Say what is other than recorded; nothing where only the time is."""
    _, size_before, *_ = before.split("/")
    _, size_now, *_ = now.split("/")
    if known is None or not size_now:
        return "it was a file and is none now" if known else "it is another kind of entry now"
    if size_before != size_now:
        return f"{int(size_before):,} bytes before, {int(size_now):,} now"
    [digest] = hash_files([(roots.absolute(path), known.size)], "hashing")
    return "" if digest == known.digest else "content differs"


def _own_files_test(patterns: Sequence[str]) -> Callable[[str], bool]:
    """Return the test for the sheet's patterns; ``@game/logs/**`` is the common kind."""
    prefixes = tuple(each[:-2] for each in patterns if re.fullmatch(r"[^*?\[]+/\*\*", each))
    others = [each for each in patterns if each[:-2] not in prefixes]
    if not others:
        return lambda path: path.startswith(prefixes) or f"{path}/" in prefixes
    from wcmatch import glob

    matcher = glob.compile(others, flags=glob.GLOBSTAR | glob.CASE | glob.DOTGLOB | glob.FORCEUNIX)
    return lambda path: (
        path.startswith(prefixes) or f"{path}/" in prefixes or bool(matcher.match(path))
    )
