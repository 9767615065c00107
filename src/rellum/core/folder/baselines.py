"""Known baselines: the files of vanilla versions, by hash, in the form of coreutils' checksum files.

A line is the hash in hexadecimal, a space, a space or ``*``, and the path from the game folder; one
that begins with a back slash has ``\\\\``, ``\\n`` and ``\\r`` in its path written so. The hash is BLAKE3 or
SHA-256; the game sheet says which.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.folder.hashes import hash_files
from rellum.core.hashing import sha256_file
from rellum.core.progress import Listener, silent
from rellum.core.values.paths import GAME_PREFIX, PlacePath, Roots, fault_in_relative

_LINE = re.compile(r"(?P<escaped>\\?)(?P<hash>[0-9a-fA-F]{64}) [ *](?P<path>.+)")
_ESCAPED = {"\\\\": "\\", "\\n": "\n", "\\r": "\r"}


class SumsFault(UserError):
    """A file of sums is missing or cannot be read."""

    code = "sums-fault"


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """How a folder compares with a known baseline. ``beside`` are files that the baseline has not."""

    known: KnownBaseline
    matching: int
    differing: tuple[PlacePath, ...]
    missing: tuple[PlacePath, ...]
    beside: tuple[PlacePath, ...]

    @property
    def is_whole(self) -> bool:
        """Whether the folder has every file of the baseline, as it should be, and no other."""
        return not (self.differing or self.missing or self.beside)


def read_sums(known: KnownBaseline) -> dict[PlacePath, str]:
    """Read a file of sums: the hash of each file, by path. Raises SumsFault."""
    return parse_sums(known.file, place_of(known.source))


def parse_sums(file: str, named_by: str = "") -> dict[PlacePath, str]:
    """Read a file of sums; ``named_by`` says who named it, for messages. Raises SumsFault."""
    try:
        with open(file, encoding="utf-8") as text:
            lines = text.read().split("\n")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not UTF-8 text"
        raise SumsFault(
            f"the sums {file} cannot be read: {why}",
            details=(f"named by {named_by}",) if named_by else (),
            hint="Write it again with 'rellum identify FOLDER --write', or correct its name.",
        ) from error
    found: dict[PlacePath, str] = {}
    for number, line in enumerate(lines, 1):
        if not line.strip() or line.startswith("#"):
            continue
        match = _LINE.fullmatch(line.rstrip("\r"))
        path = _unescaped(match["path"], match["escaped"]) if match else ""
        path = path.removeprefix("./").replace("\\", "/")
        fault = fault_in_relative(path) if match else "it is no hash and path"
        if match is None or fault:
            raise SumsFault(
                f"{file}:{number}: the line cannot be used: {fault}",
                hint="A line is a hash of 64 hexadecimal digits, two spaces, and a path.",
            )
        found[PlacePath(GAME_PREFIX + path)] = match["hash"].lower()
    return found


def sums_text(hashes: Mapping[PlacePath, str]) -> str:
    """Return the text of a file of sums, sorted by path."""
    lines = []
    for path, digest in sorted(hashes.items()):
        name = path.removeprefix(GAME_PREFIX)
        escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
        sign = "\\" if escaped != name else ""
        lines.append(f"{sign}{digest}  {escaped}\n")
    return "".join(lines)


def _unescaped(path: str, escaped: str) -> str:
    if not escaped:
        return path
    return re.sub(r"\\[\\nr]", lambda match: _ESCAPED[match.group()], path)


class FolderHashes:
    """The hashes of files in a game folder, each computed when it is first asked for."""

    def __init__(self, roots: Roots, listen: Listener = silent) -> None:
        self._roots = roots
        self._listen = listen
        self._known: dict[str, dict[PlacePath, str]] = {"blake3": {}, "sha256": {}}

    def of(self, form: str, files: Sequence[tuple[PlacePath, int]]) -> dict[PlacePath, str]:
        """Return the hashes of files, given with their size in bytes; of those that are there."""
        known = self._known[form]
        asked = [each for each in files if each[0] not in known]
        paths = [(self._roots.absolute(path), size) for path, size in asked]
        if form == "blake3":
            digests: Sequence[str | None] = hash_files(paths, "hashing", self._listen)
        else:
            digests = [_sha256(path) for path, _ in paths]
        for (path, _), digest in zip(asked, digests, strict=True):
            if digest:
                known[path] = digest
        return {path: known[path] for path, _ in files if path in known}


def _sha256(path: str) -> str | None:
    try:
        return sha256_file(path)
    except FileNotFoundError:
        return None


def compare(
    known: KnownBaseline, files: Sequence[tuple[PlacePath, int]], hashes: FolderHashes
) -> Match:
    """Compare files, given with their size, with a known baseline. Raises SumsFault, OSError."""
    sums = read_sums(known)
    there = hashes.of(known.form, [each for each in files if each[0] in sums])
    differing = [path for path, digest in there.items() if sums[path] != digest]
    return Match(
        known=known,
        matching=len(there) - len(differing),
        differing=tuple(sorted(differing)),
        missing=tuple(sorted(sums.keys() - there.keys())),
        beside=tuple(sorted(path for path, _ in files if path not in sums)),
    )


def best(matches: Iterable[Match]) -> Match | None:
    """Return the baseline that a folder is nearest to: the most files as they should be, then fewest not."""
    return max(
        matches,
        key=lambda match: match.matching - len(match.differing) - len(match.missing),
        default=None,
    )
