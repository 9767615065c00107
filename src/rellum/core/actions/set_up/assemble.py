"""Assemble: build a complete game from parts, laid over one another and checked against known files."""

from __future__ import annotations

import os
import shutil
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.load import load_sheets
from rellum.core.catalog.model import GameSheet
from rellum.core.change.request import Request
from rellum.core.errors import NoAnswer, UserError
from rellum.core.folder.baselines import read_sums
from rellum.core.folder.hashes import hash_files
from rellum.core.folder.listing import list_folder
from rellum.core.globs import PathTest
from rellum.core.hashing import hash_file, sha256_file
from rellum.core.pack.catalogs import find_catalogs
from rellum.core.pack.copying import UNFINISHED, copy_file, refuse_without_room
from rellum.core.pack.home import PackHome
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.progress import Listener
from rellum.core.values.content import EXECUTABLE_MODE, PLAIN_MODE
from rellum.core.values.paths import GAME_PREFIX, PlacePath, Roots, shown

if TYPE_CHECKING:
    from rellum.core.archives.model import Archive, Member


class CannotAssemble(UserError):
    """The parts, or the folder to be made, cannot be used."""

    code = "cannot-assemble"


class NotWhole(NoAnswer):
    """The parts do not make a whole game that is known."""

    code = "not-whole"


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A part: a folder, or an archive. ``files`` have the hash of each path; links are left out."""

    name: str
    files: dict[PlacePath, str]
    root: str = ""
    archive: Archive | None = None
    members: dict[PlacePath, Member] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Assembly:
    """What the parts make.

    takes: how many files come from each part in the end, and how many of its are laid over
    known: the baseline that the whole is, None where none is known
    left: files that stay behind in the parts
    """

    out: str
    takes: tuple[tuple[str, int, int], ...]
    known: KnownBaseline | None
    files: int
    bytes: int
    left: tuple[str, ...] = ()


Confirm = Callable[[Assembly], bool]


def assemble(
    request: Request,
    out: str,
    parts: Sequence[str],
    *,
    version: str = "",
    move: bool = False,
    unchecked: bool = False,
    catalogs: tuple[str, ...] = (),
) -> Assembly:
    """Build a game folder; later parts win. All is looked at before anything is written.

    ``move``: files are moved out of part folders. ``unchecked``: also where no baseline is known or the
    whole is none. Raises CannotAssemble, NotWhole, ArchiveFault, SumsFault, OSError.
    """
    out = os.path.abspath(out)
    _refuse_places(out, parts)
    unfinished = out + UNFINISHED
    if not move:
        shutil.rmtree(unfinished, ignore_errors=True)  # of an interrupted call
    baselines = _baselines(request.pack_folder, catalogs, version)
    tops = {path.split("/")[1] for known in baselines for path in read_sums(known)}
    read = [_read_part(part, tops, request.listen) for part in _with_unfinished(out, parts)]
    winners: dict[PlacePath, Part] = {path: part for part in read for path in part.files}
    if version and unchecked:
        _refuse_other_version(_baselines(request.pack_folder, catalogs, ""), winners, version)
    known = None
    if baselines or not unchecked:
        is_own = _own_files(request.pack_folder, catalogs)
        known = _check(baselines, read, winners, version, is_own, unchecked=unchecked)
    os.makedirs(unfinished, exist_ok=True)
    try:
        if not move:
            _refuse_without_room(unfinished, winners)
        for part in read:
            its = [path for path, winner in winners.items() if winner is part]
            _lay(part, its, unfinished, move)
    except OSError as error:
        if move:  # what was moved already is nowhere else: the next call goes on
            why = f"What was moved lies in {unfinished}. Fix that, and call it again: it goes on."
        else:
            shutil.rmtree(unfinished, ignore_errors=True)
            why = "Nothing of it was kept. Fix that and try again."
        raise CannotAssemble(
            f"the game cannot be built in {out}: {error.strerror}: {error.filename}", hint=why
        ) from error
    if move:
        _remove_hidden(read, winners)
    _refuse_other(unfinished, winners)
    if os.path.isdir(out):
        os.rmdir(out)
    os.rename(unfinished, out)
    counts = Counter(part.name for part in winners.values())
    sizes = (os.path.getsize(Roots(out).absolute(path)) for path in winners)
    return Assembly(
        out=out,
        takes=tuple((p.name, counts[p.name], len(p.files) - counts[p.name]) for p in read),
        known=known,
        files=len(winners),
        bytes=sum(sizes),
        left=tuple(_left_behind(read)) if move else (),
    )


def _refuse_without_room(unfinished: str, winners: Mapping[PlacePath, Part]) -> None:
    """Refuse to fill the disk. Raises OSError."""
    sizes = []
    for path, part in winners.items():
        file = Roots(part.root).absolute(path) if part.root else ""
        sizes.append(os.path.getsize(file) if file else (part.members or {})[path].size)
    example = next((Roots(p.root).absolute(path) for path, p in winners.items() if p.root), "")
    refuse_without_room(unfinished, sizes, example)


def _refuse_places(out: str, parts: Sequence[str]) -> None:
    if os.path.lexists(out) and (not os.path.isdir(out) or os.listdir(out)):
        raise CannotAssemble(
            f"{out} already exists and is not empty", hint="Name a new folder for the game."
        )
    for part in parts:
        if not os.path.exists(part):
            raise CannotAssemble(
                f"the part {part} is not there", hint="Name folders or archives, oldest first."
            )
        inside = os.path.abspath(part)
        if os.path.commonpath([out, inside]) in (out, inside) and os.path.isdir(part):
            raise CannotAssemble(
                f"{out} and the part {part} contain one another", hint="Name a folder outside it."
            )


def _with_unfinished(out: str, parts: Sequence[str]) -> list[str]:
    """Return the parts, and last what an interrupted call has moved out of them already: it won there."""
    unfinished = out + UNFINISHED
    return [*parts, *([unfinished] if os.path.isdir(unfinished) else ())]


def _read_part(part: str, tops: set[str], listen: Listener) -> Part:
    """Read a part; ``tops`` are the names that are known at the top of the game."""
    if not os.path.isdir(part):
        return _read_archive(part, tops, listen)
    root = _inner(os.path.abspath(part), tops)
    entries = list_folder(root)
    files = [e for e in entries if e.kind == "file" and not e.path.endswith(UNFINISHED)]
    roots = Roots(root)
    paths = [(roots.absolute(PlacePath(each.path)), each.size) for each in files]
    digests = hash_files(paths, "hashing", listen)
    return Part(
        name=part,
        root=root,
        files={PlacePath(e.path): d for e, d in zip(files, digests, strict=True) if d},
    )


def _inner(folder: str, tops: set[str]) -> str:
    """Return the folder in which the part begins: past folders that hold nothing but one other."""
    while len(names := os.listdir(folder)) == 1 and names[0] not in tops:
        inside = os.path.join(folder, names[0])
        if not os.path.isdir(inside) or os.path.islink(inside):
            break
        folder = inside
    return folder


def _read_archive(part: str, tops: set[str], listen: Listener) -> Part:
    from rellum.core.archives.open import open_archive

    archive = open_archive(part)
    members = {str(member.path): member for member in archive.check(listen)}
    prefix = ""
    while len({name[len(prefix) :].partition("/")[0] for name in members}) == 1:
        first = next(iter(members))[len(prefix) :].partition("/")
        if not first[1] or first[0] in tops:
            break
        prefix += f"{first[0]}/"
    named = {PlacePath(GAME_PREFIX + name[len(prefix) :]): m for name, m in members.items()}
    files = {path: str(member.digest) for path, member in named.items()}
    return Part(name=part, files=files, archive=archive, members=named)


def _sheets(pack_folder: str, catalogs: tuple[str, ...]) -> list[GameSheet]:
    home = PackHome(os.path.abspath(pack_folder))
    pack = read_pack_file(home) if os.path.exists(home.pack_file) else None
    return list(load_sheets(find_catalogs(home, catalogs, pack)).values())


def _own_files(pack_folder: str, catalogs: tuple[str, ...]) -> PathTest:
    """Return the test of files that a game writes itself: in parts they are no matter."""
    tests = [sheet.path_rules.test(sheet.own_files) for sheet in _sheets(pack_folder, catalogs)]
    return lambda path: any(fits(path) for fits in tests)


def _refuse_other_version(
    baselines: Iterable[KnownBaseline], winners: dict[PlacePath, Part], version: str
) -> None:
    """Refuse parts that are nearer to another known version than to the one asked for. Raises NotWhole."""
    right = {
        known: sum(
            path in winners and _digest(path, winners[path], known) == digest
            for path, digest in read_sums(known).items()
        )
        for known in baselines
    }
    if not right:
        return
    nearest = max(right, key=lambda known: (right[known], known.version.text == version))
    if right[nearest] and nearest.version.text != version:
        raise NotWhole(
            f"the parts are nearer to {nearest} than to {version}: {right[nearest]:,} files match",
            hint="Omit --version, or name other parts.",
        )


def _baselines(pack_folder: str, catalogs: tuple[str, ...], version: str) -> list[KnownBaseline]:
    found = [known for sheet in _sheets(pack_folder, catalogs) for known in sheet.baselines]
    return [known for known in found if version in ("", known.version.text)]


def _check(
    baselines: Iterable[KnownBaseline],
    parts: Sequence[Part],
    winners: dict[PlacePath, Part],
    version: str,
    is_own: PathTest,
    *,
    unchecked: bool,
) -> KnownBaseline | None:
    """Return the known baseline that the parts make, whole. Raises NotWhole."""
    nearest: tuple[int, KnownBaseline, list[tuple[PlacePath, str]]] | None = None
    for known in baselines:
        sums = read_sums(known)
        wrong = [(path, "missing") for path in sums.keys() - winners.keys()]
        beside = winners.keys() - sums.keys()
        wrong += [(path, "is not among the known files") for path in beside if not is_own(path)]
        right = 0
        for path in sums.keys() & winners.keys():
            if _digest(path, winners[path], known) == sums[path]:
                right += 1
            else:
                wrong.append((path, "differs"))
        if not wrong:
            return known
        if nearest is None or right - len(wrong) > nearest[0]:
            nearest = (right - len(wrong), known, wrong)
    if unchecked:
        return None
    if nearest is None:
        raise NotWhole(
            f"no vanilla game {version or 'of any version'} is known to check the whole against",
            hint="Write one from a good copy with 'rellum identify FOLDER --write', or --unchecked.",
        )
    _, near, wrong = nearest
    raise NotWhole(
        f"the parts do not make {near}: {_files(len(wrong))} not as known",
        details=tuple(
            _wrong_line(path, what, parts, winners, read_sums(near).get(path, ""))
            for path, what in sorted(wrong)[:20]
        ),
        hint="Download these parts again, check their order, or add --unchecked.",
    )


def _files(count: int) -> str:
    return "1 file is" if count == 1 else f"{count:,} files are"


def _digest(path: PlacePath, part: Part, known: KnownBaseline) -> str:
    if known.form == "blake3":
        return part.files[path]
    if part.archive is None:
        return sha256_file(Roots(part.root).absolute(path))
    raise CannotAssemble(
        f"the known files of {known} are SHA-256 sums, which cannot be told of archives",
        hint="Unpack the parts, or write BLAKE3 sums with 'rellum identify FOLDER --write'.",
    )


def _wrong_line(
    path: PlacePath,
    what: str,
    parts: Sequence[Part],
    winners: dict[PlacePath, Part],
    digest: str,
) -> str:
    """Say what is wrong with a file, and where it is or should be: beside its neighbours."""
    if path in winners:
        return f"{shown(path)} {what}; it comes from {winners[path].name}"
    for part in parts:
        found = next((each for each, is_there in part.files.items() if is_there == digest), None)
        if found:
            return f"{shown(path)} is {what}; {part.name} has it as {shown(found)}"
    above = path.rpartition("/")[0] + "/"
    near = Counter(p.name for p in parts for each in p.files if each.startswith(above))
    if near and above != GAME_PREFIX:
        return f"{shown(path)} is {what}; {near.most_common(1)[0][0]} has others of its folder"
    return f"{shown(path)} is {what}; no part that was named should have it"


def _lay(part: Part, paths: Sequence[PlacePath], out: str, move: bool) -> None:
    target, source = Roots(out), Roots(part.root) if part.root else None
    for path in paths:
        os.makedirs(os.path.dirname(target.absolute(path)), exist_ok=True)
    if source is None:
        _extract(part, paths, target)
        return
    for path in paths:
        file, there = source.absolute(path), target.absolute(path)
        if file == there:
            continue  # an interrupted call had it there already
        if move:
            _move(file, there)
        else:
            copy_file(file, there)
            if hash_file(there) != part.files[path]:
                raise CannotAssemble(f"{file} changed meanwhile", hint="Try again.")


def _move(file: str, there: str) -> None:
    """Move a file, also to another file system; what stands there is whole at any moment."""
    try:
        os.replace(file, there)
    except OSError:
        copy_file(file, there + UNFINISHED)
        os.replace(there + UNFINISHED, there)
        os.unlink(file)


def _extract(part: Part, paths: Sequence[PlacePath], target: Roots) -> None:
    from rellum.core.archives.model import Extraction

    assert part.archive is not None and part.members is not None
    jobs = []
    for path in paths:
        member, there = part.members[path], target.absolute(path)
        if os.path.lexists(there):
            os.unlink(there)
        mode = EXECUTABLE_MODE if member.executable else PLAIN_MODE
        jobs.append(
            Extraction(member=member.stored_as, digest=member.digest, target=there, mode=mode)
        )
    part.archive.extract(jobs)


def _remove_hidden(parts: Sequence[Part], winners: dict[PlacePath, Part]) -> None:
    """Remove from part folders what a later part lies over, and folders that are empty then."""
    for part in parts:
        if not part.root or part.root.endswith(UNFINISHED):
            continue
        roots = Roots(part.root)
        for path in part.files:
            if winners[path] is not part and os.path.lexists(roots.absolute(path)):
                os.unlink(roots.absolute(path))
        for folder, _, _ in os.walk(part.root, topdown=False):
            if not os.listdir(folder):
                os.rmdir(folder)


def _refuse_other(folder: str, winners: dict[PlacePath, Part]) -> None:
    """What lies in the unfinished folder must be the whole, and nothing else."""
    there = {each.path for each in list_folder(folder) if each.kind == "file"}
    if there != set(winners):
        odd = sorted(there ^ set(winners))
        raise CannotAssemble(
            f"{folder} is not what was to be built: {shown(PlacePath(odd[0]))}",
            hint="Another program works there. Look into it, then try again.",
        )


def _left_behind(parts: Sequence[Part]) -> list[str]:
    """Return what still lies in part folders: links and the like, and files that came meanwhile."""
    left = []
    for part in parts:
        if part.root and os.path.isdir(part.root):
            left += [
                f"{part.name}: {shown(PlacePath(each.path))}"
                for each in list_folder(part.root)
                if each.kind != "folder"
            ]
    return left
