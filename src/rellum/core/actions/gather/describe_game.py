"""Draft the sheet of a game that no catalog describes, from its folder and what lies around it."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from rellum.core.actions.gather.describe import downloads
from rellum.core.archives.model import Extraction
from rellum.core.archives.open import open_archive
from rellum.core.catalog.load import NoCatalog
from rellum.core.catalog.open_lines import open_lines
from rellum.core.catalog.schemas import lay_schemas, schema_line
from rellum.core.catalog.sheet_rules import USER_FOLDERS
from rellum.core.catalog.sheets import read_sheet
from rellum.core.catalog.tables import Fault
from rellum.core.describing.first_start import (
    Bases,
    FirstStart,
    Seen,
    Surroundings,
    as_user_folder,
    look,
    user_folders,
    what_changed,
)
from rellum.core.describing.game_signs import GameFile, GameSigns, signs_of
from rellum.core.describing.own_form import (
    IN_GAME,
    SAMPLE_ENDINGS,
    OwnForm,
    Sample,
    guess_own_forms,
)
from rellum.core.describing.sheet_text import SheetAnswers, outside_folders, sheet_text
from rellum.core.durable import write_durably
from rellum.core.errors import RellumError, UserError
from rellum.core.pack.catalogs import find_catalogs
from rellum.core.pack.home import PackHome
from rellum.core.pack.outside import user_folder
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.unsafe_places import unsafe_folder

MOST_FILES = 200_000
"""A folder with more files is asked about before it is read whole."""

_MOST_SAMPLES = 40
_MOST_IN_SAMPLE = 60


class NoGameFolder(UserError):
    """A folder is no game: nothing can be drafted from it."""

    code = "no-game-folder"


@dataclass(frozen=True, slots=True, kw_only=True)
class GameDraft:
    """A game's sheet as a draft. ``marks`` counts the lines that a person must still decide."""

    signs: GameSigns
    answers: SheetAnswers
    text: str

    @property
    def marks(self) -> int:
        """How many lines are marked."""
        return len(open_lines(self.text))


Ask = Callable[[GameSigns, SheetAnswers, Surroundings], SheetAnswers]
"""Lets a person correct what was guessed."""


def as_guessed(_: GameSigns, answers: SheetAnswers, __: Surroundings) -> SheetAnswers:
    """Take the likeliest of everything."""
    return answers


def describe_game(
    folder: str, look_at: Sequence[str], ask: Ask, may_read: Callable[[int], bool]
) -> GameDraft:
    """Draft a game's sheet. ``look_at`` are folders of downloads that show how its mods describe themselves.

    ``may_read`` says whether a folder of more than so many files is read. Raises NoGameFolder, OSError.
    """
    root = os.path.abspath(folder)
    files, folders = _listed(root, may_read)

    def read(path: str, count: int) -> bytes:
        try:
            with open(os.path.join(root, path), "rb") as file:
                return file.read(count)
        except OSError:
            return b""

    signs = signs_of(os.path.basename(root), files, folders, read)
    if not signs.marks:
        raise NoGameFolder(
            f"{folder} holds no program and no data file: it does not look like a game",
            hint="Name the folder that the game's program lies in.",
        )
    samples = [*_in_game(signs, files, read), *_in_downloads(look_at)]
    bases = {kind: user_folder(kind) for kind in USER_FOLDERS}
    answers = _guessed(signs, guess_own_forms(samples), bases)
    answers = ask(signs, answers, _surroundings(root, bases))
    text = sheet_text(signs, _with_files(answers, root, signs.alike))
    _refuse_faulty(text)
    return GameDraft(signs=signs, answers=answers, text=text)


def write_sheet(draft: GameDraft, catalog: str) -> str:
    """Write a draft into a catalog folder, and return its file. Raises NoGameFolder where one is there."""
    file = os.path.join(catalog, "games", f"{draft.answers.id}.toml")
    if os.path.exists(file):
        raise NoGameFolder(
            f"{file} is there already", hint="Edit it, or choose another folder with --to FILE."
        )
    os.makedirs(os.path.dirname(file), exist_ok=True)
    lay_schemas(os.path.join(catalog, "schemas"), ("sheet", "card", "trials"))
    text = f"{schema_line('../schemas/sheet.json')}\n{draft.text}"
    write_durably(file, text.encode("utf-8"))
    return file


def catalog_for(pack_folder: str) -> str:
    """Return the catalog folder that a new sheet goes into: the pack's, else a new one in its folder."""
    home = PackHome(os.path.abspath(pack_folder))
    pack = read_pack_file(home) if os.path.exists(home.pack_file) else None
    try:
        return find_catalogs(home, pack=pack)[0]
    except NoCatalog:
        return os.path.join(home.folder, "catalog")


def _surroundings(root: str, bases: Bases) -> Surroundings:
    before: list[Seen] = []

    def look_again() -> FirstStart:
        before.append(look(root, bases))
        return what_changed(before[0], before[-1])

    return Surroundings(
        look_again=look_again, as_user_folder=lambda typed: as_user_folder(typed, bases)
    )


def _with_files(answers: SheetAnswers, root: str, alike: Sequence[str]) -> SheetAnswers:
    """Return the answers, knowing what they name: files, or folders and a file in each."""
    named = (*answers.players, *answers.written_by_game)
    files = frozenset(each for each in named if os.path.isfile(os.path.join(root, each)))
    inside = {}
    for each in (*answers.expansions, *answers.editions, *alike):
        folder = os.path.join(root, each)
        below = (
            os.path.join(at, name) for at, _, names in os.walk(folder) for name in sorted(names)
        )
        if first := next(below, ""):
            inside[each] = os.path.relpath(first, root).replace(os.sep, "/")
    return replace(answers, files=files, inside=inside)


def _guessed(signs: GameSigns, forms: tuple[OwnForm, ...], bases: Bases) -> SheetAnswers:
    mods = next((folder for name, folder, _ in signs.places if name == "mods"), "")
    return SheetAnswers(
        id=signs.id,
        name=signs.name,
        version=signs.versions[0] if signs.versions else None,
        players=signs.players,
        written_by_game=signs.written_by_game,
        outside=outside_folders(list(_named_after(signs, bases))),
        mods=mods,
        forms=forms,
    )


def _listed(root: str, may_read: Callable[[int], bool]) -> tuple[list[GameFile], list[str]]:
    """Return the files and folders of a game. Raises NoGameFolder."""
    if not os.path.isdir(root):
        raise NoGameFolder(f"{root} is not a folder")
    if unsafe := unsafe_folder(root):
        raise NoGameFolder(
            f"{root} and {unsafe} contain one another: that is no game's folder",
            hint="Name the folder that the game's program lies in.",
        )
    files: list[GameFile] = []
    folders: list[str] = []
    is_asked = False
    for inside, names, here in os.walk(root):
        above = os.path.relpath(inside, root).replace(os.sep, "/")
        prefix = "" if above == "." else f"{above}/"
        folders += [f"{prefix}{name}" for name in names]
        for name in here:
            path = os.path.join(inside, name)
            if not os.path.islink(path) and os.path.isfile(path):
                status = os.stat(path)
                is_program = bool(status.st_mode & 0o100) and os.name != "nt"
                files.append(
                    GameFile(path=f"{prefix}{name}", size=status.st_size, is_executable=is_program)
                )
        if len(files) > MOST_FILES and not is_asked:
            is_asked = True
            if not may_read(len(files)):
                raise NoGameFolder(
                    f"{root} has more than {MOST_FILES:,} files, and was not read whole"
                )
    if not files:
        raise NoGameFolder(f"{root} is empty")
    return files, folders


def _named_after(signs: GameSigns, bases: Bases) -> Iterator[str]:
    """Yield the user's folders that are called after the game, as a sheet names them."""
    wanted = {_letters(signs.id), _letters(signs.name)}
    for named, folder in user_folders(bases):
        if _letters(os.path.basename(folder)) in wanted:
            yield named


def _letters(text: str) -> str:
    return "".join(sign for sign in text.casefold() if sign.isalnum())


def _in_game(
    signs: GameSigns, files: Sequence[GameFile], read: Callable[[str, int], bytes]
) -> Iterator[Sample]:
    """Yield files with which mods that the game brings may describe themselves."""
    mods = next((folder for name, folder, _ in signs.places if name == "mods"), "")
    for each in files:
        parts = each.path.removeprefix(f"{mods}/").split("/")
        is_in_mods = bool(mods) and each.path.startswith(f"{mods}/") and len(parts) == 2
        if is_in_mods and _is_sample(each.path, each.size):
            yield f"{IN_GAME}{parts[0]}", each.path, read(each.path, 64 << 10)


def _in_downloads(look_at: Sequence[str]) -> Iterator[Sample]:
    """Yield files with which the mods in downloads may describe themselves; bad ones are passed over."""
    for paths in list(downloads(look_at))[:_MOST_SAMPLES]:
        if os.path.isdir(paths[0]):
            yield from _in_folder(paths[0])
            continue
        try:
            archive = open_archive(paths, paths[0])
            members = [
                member
                for member in archive.check()
                if member.path.count("/") <= 2 and _is_sample(member.path, member.size)
            ][:_MOST_IN_SAMPLE]
            with tempfile.TemporaryDirectory(prefix="rellum-") as folder:
                jobs = [
                    Extraction(
                        member=member.stored_as,
                        digest=member.digest,
                        target=os.path.join(folder, str(number)),
                        mode=0o600,
                    )
                    for number, member in enumerate(members)
                ]
                archive.extract(jobs)
                for member, job in zip(members, jobs, strict=True):
                    with open(job.target, "rb") as file:
                        yield paths[0], member.path, file.read()
        except (RellumError, OSError):
            continue


def _in_folder(folder: str) -> Iterator[Sample]:
    for inside, names, here in os.walk(folder):
        depth = os.path.relpath(inside, folder).count(os.sep)
        if depth >= 1:
            names.clear()
        for name in here:
            path = os.path.join(inside, name)
            if os.path.isfile(path) and _is_sample(name, os.path.getsize(path)):
                with open(path, "rb") as file:
                    yield folder, name, file.read()


def _is_sample(path: str, size: int) -> bool:
    return os.path.splitext(path)[1].lower() in SAMPLE_ENDINGS and 0 < size <= 64 << 10


def _refuse_faulty(text: str) -> None:
    """Make sure that a draft loads: a draft with a mistake is a mistake of ours."""
    import tomli

    faults: list[Fault] = []
    if read_sheet(tomli.loads(text), "draft", faults) is None:
        raise NoGameFolder(
            "no sheet can be drafted from this folder",
            details=tuple(each.message for each in faults),
        )
