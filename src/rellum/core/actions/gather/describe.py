"""Draft cards from archives or folders: one to look at, or all into the catalog."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Literal

from rellum.core.actions.gather.take_checks import refuse_inner, refuse_unfinished
from rellum.core.archives.model import Archive, ArchiveFault, Extraction, Member
from rellum.core.archives.open import open_archive
from rellum.core.archives.parts import Part, gather, part_of
from rellum.core.catalog.model import Catalog
from rellum.core.catalog.open_lines import VALUE
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.describing.builds import BuildSigns
from rellum.core.describing.card_files import CardFolder, Saved, patched
from rellum.core.describing.card_text import Described, DescribedFile
from rellum.core.describing.game_words import words_of_game
from rellum.core.describing.naming import TOLD_IN, Guess, Naming, guess_naming
from rellum.core.describing.own_words import (
    OwnWords,
    as_id,
    own_files,
    own_words_in,
    with_known_ids,
    without_games_own,
)
from rellum.core.describing.packed import container_members, packed_homes, packed_shape
from rellum.core.describing.shape import Game, Home, Shape, guess_shape
from rellum.core.errors import RellumError
from rellum.core.pack.pack_file import PackFile
from rellum.core.pack.session import Session
from rellum.core.progress import Listener
from rellum.core.shelf.folder_pack import pack_folder
from rellum.core.shelf.intake import hashes_of
from rellum.core.shelf.recognise import CardFiles
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath, file_of, parents

_MOST_TEXTS = 12
_TEXT_BYTES = 64 << 10
_ANSWERED = 2
"""After so many mods that lie in folders of their own, the next one is taken to do so, too."""


Outcome = Literal["new card", "release added", "known", "refused", "not an archive"]


@dataclass(frozen=True, slots=True, kw_only=True)
class EachOutcome:
    """What became of one download. ``reason`` and ``hint`` tell why it was refused.

    ``card`` is the file that has its release, ``marks`` the number of lines in it to be decided; ``lacking``
    are mods that it needs and that no card describes.
    """

    path: str
    outcome: Outcome
    release: str = ""
    card: str = ""
    marks: int = 0
    reason: str = ""
    hint: str = ""
    lacking: tuple[str, ...] = ()


def describe(request: Request, paths: Sequence[str]) -> Described:
    """Find out what an archive (or all parts of one, or a folder) is and where its files belong.

    Raises ArchiveFault, and what opening the pack and reading the catalog can raise.
    """
    with open_pack(request) as opened:
        describer = Describer(opened)
    return describer.describe(paths, request.listen)


def save(request: Request, paths: Sequence[str]) -> Saved:
    """Describe an archive, and write it into the catalog: a new card, or a release of a card that is there.

    Raises ArchiveFault, CannotSave, and what opening the pack and reading the catalog can raise.
    """
    with open_pack(request) as opened:
        describer = Describer(opened)
        described = describer.describe(paths, request.listen)
        return CardFolder(describer.catalog, describer.builds).save(described, describer.members)


def save_own(request: Request, paths: Iterable[str]) -> dict[str, str]:
    """Write into the catalog what mods in archives say about themselves; return their cards, by path.

    Archives that say nothing, or cannot be written, are passed over.
    """
    saved: dict[str, str] = {}
    with open_pack(request) as opened:
        describer = Describer(opened)
        folder = CardFolder(describer.catalog, describer.builds)
        for path in paths:
            with suppress(RellumError):
                described = describer.describe([path], request.listen)
                if described.own and described.naming.version.value:
                    saved[path] = folder.save(described, describer.members).file
    return saved


Ask = Callable[[str], str]
"""Asks for the version of a download that tells none; an empty text where nobody knows."""


def nobody_knows(_: str) -> str:
    """Answer that the version is not known."""
    return ""


def describe_each(
    request: Request, folders: Sequence[str], ask: Ask = nobody_knows
) -> Iterator[EachOutcome]:
    """Describe all downloads in folders, and write each into the catalog; yield what became of each.

    Releases of one mod go into one card, the oldest first. A bad download does not stop the others.
    """
    with open_pack(request) as opened:
        describer = Describer(opened)
        folder = CardFolder(describer.catalog, describer.builds)
        drafts: list[tuple[str, Described, tuple[Member, ...]]] = []
        for paths in downloads(folders):
            try:
                if not os.path.isdir(paths[0]):
                    refuse_unfinished(paths[0])
                described = describer.describe(paths, request.listen)
                refuse_inner(paths[0], describer.members)
            except (RellumError, OSError) as error:
                yield _refused(paths[0], error)
                continue
            if described.known_as:
                yield EachOutcome(path=paths[0], outcome="known", release=described.known_as)
                continue
            if not described.naming.version.value and (said := ask(paths[0])):
                version = Guess(value=said, source="your answer")
                described = replace(described, naming=replace(described.naming, version=version))
            drafts.append((paths[0], described, describer.members))
            describer.homes += bool(described.own)
        drafts = [(path, describer.again(each, members), members) for path, each, members in drafts]
        known = _known_ids(describer.catalog, [described for _, described, _ in drafts])
        for path, described, members in sorted(drafts, key=lambda each: each[1].order):
            try:
                saved = folder.save(described, members)
            except RellumError as error:
                yield _refused(path, error)
                continue
            yield EachOutcome(
                path=path,
                outcome="new card"
                if saved.is_new
                else "known"
                if saved.was_there
                else "release added",
                release=f"{saved.mod} {saved.version}",
                card=saved.file,
                marks=saved.marks,
                lacking=tuple(
                    need.id for own in described.own for need in own.needs if need.id not in known
                ),
            )


def _known_ids(catalog: Catalog, drafts: Sequence[Described]) -> set[str]:
    """Return the mods that have a card, or will have one, and those that other mods stand in for."""
    known: set[str] = {*catalog.mods, *catalog.offered}
    for each in drafts:
        known |= {each.naming.id.value, *(own.id for own in each.own)}
    return known


def downloads(folders: Sequence[str]) -> Iterator[list[str]]:
    """Yield the downloads in folders: archives, all parts of one together, and unpacked folders."""
    for folder in folders:
        if not os.path.isdir(folder):
            yield [folder]
            continue
        sets: dict[str, list[tuple[Part, str]]] = {}
        for name in sorted(os.listdir(folder)):
            path = os.path.join(folder, name)
            part = part_of(path) if os.path.isfile(path) else None
            if part is not None:
                sets.setdefault(part.key, []).append((part, path))
            elif not name.startswith("."):
                yield [path]
        for parts in sets.values():
            yield [path for _, path in sorted(parts, key=lambda each: each[0].number)]


def _refused(path: str, error: Exception) -> EachOutcome:
    if isinstance(error, RellumError):
        return EachOutcome(path=path, outcome="refused", reason=error.summary, hint=error.hint)
    return EachOutcome(path=path, outcome="refused", reason=str(error))


class Describer:
    """Describes archives for one pack. ``members`` are those of the archive that was described last."""

    def __init__(self, opened: Session) -> None:
        self.pack_file: PackFile = opened.files.pack
        self.catalog: Catalog = opened.files.catalog
        sheet = self.catalog.sheet
        vanilla = [entry.path for entry in opened.state.baseline_files()]
        told_in = [os.path.basename(each.file) for each in sheet.self_descriptions]
        is_container = sheet.path_rules.test([each.pattern for each in sheet.containers])
        members = container_members(vanilla, opened.roots, is_container)
        self.game = Game(vanilla, sheet.places, told_in, members)
        self.packed = packed_homes(vanilla, opened.roots, is_container)
        self.game_version = str(opened.state.identity().version)
        self.builds = BuildSigns(
            game_versions={*(each.text for each in sheet.known_versions), self.game_version},
            loaders={mod.id for mod in self.catalog.mods.values() if mod.kind == "loader"},
        )
        self.known = CardFiles(self.catalog)
        self.known_ids = {
            as_id(mod.own_id): mod.id for mod in self.catalog.mods.values() if mod.own_id
        }
        self.own = words_of_game(sheet.self_descriptions, vanilla, opened.roots)
        place = sheet.places.get("mods")
        self.lays_in_mods = place is not None
        self.homes = _in_own_folders(self.catalog, place) if place else 0
        self.members: tuple[Member, ...] = ()

    def describe(self, paths: Sequence[str], listen: Listener) -> Described:
        """Describe one archive, all parts of one, or a folder. Raises ArchiveFault."""
        with tempfile.TemporaryDirectory(prefix="rellum-") as folder:
            named = _with_names(paths, folder)
            hashes = [hashes_of(path, frozenset({"sha256"})) for path, _ in named]
            files = tuple(
                DescribedFile(name=name, size=each.size, sha256=each.others["sha256"])
                for (_, name), each in zip(named, hashes, strict=True)
            )
            limits = self.pack_file.limits
            archive = open_archive([path for path, _ in named], paths[0], limits=limits)
            self.members = archive.check(listen)
            own, told = self._words(archive, folder)
        names = [str(member.path) for member in self.members]
        top = {name.split("/")[0] for name in names if "/" in name}
        if len(own) > 1:  # each of them speaks of itself alone
            told = {path: text for path, text in told.items() if path not in {w.file for w in own}}
        naming = guess_naming(
            files[0].name,
            top.pop() if len(top) == 1 else "",
            told,
            own[0] if len(own) == 1 else None,
            self.builds,
            own if len(own) > 1 else (),
        )
        mod = self.catalog.mods.get(ModId(naming.id.value)) if naming.id.value else None
        known = self.known.recognise(hashes[0])
        unpacked = sum(member.size for member in self.members)
        return Described(
            naming=naming,
            shape=self._shape(files[0].name if len(files) == 1 else "", names, naming, own),
            files=files,
            members=len(self.members),
            unpacked=unpacked,
            game_version=self.game_version,
            has_card=mod is not None,
            known_as=known.release.name if known else "",
            own=own,
            build=self.builds.of_name(files[0].name),
            patches=patched(mod, unpacked, says_so=naming.is_patch) if mod else "",
        )

    def again(self, described: Described, members: Sequence[Member]) -> Described:
        """Return a draft with what other downloads told since about where mods belong."""
        if all(rule.is_sure or rule.is_packed for rule in described.shape.rules):
            return described
        names = [str(member.path) for member in members]
        shape = self._shape("", names, described.naming, described.own)
        return replace(described, shape=shape)

    def _shape(
        self, name: str, members: Sequence[str], naming: Naming, own: Sequence[OwnWords]
    ) -> Shape:
        """Return how an archive is laid; ``name`` is its file's where it is one file."""
        packed = packed_shape(name, members, naming.id.value or VALUE, self.packed, self.game)
        return packed or guess_shape(members, self.game, naming.id.value, self._homes_of(own))

    def _words(self, archive: Archive, folder: str) -> tuple[tuple[OwnWords, ...], dict[str, str]]:
        """Return what an archive's mods say about themselves, and the texts that tell of it."""
        descriptions = self.catalog.sheet.self_descriptions
        paths = [str(member.path) for member in self.members]
        wanted = {path for each in descriptions for path in own_files(each, paths)[:40]}
        texts = _texts_of(self.members)
        contents = _contents(archive, self.members, wanted | set(texts), folder)
        found = own_words_in(descriptions, paths, lambda path: contents.get(path, b""))
        inner = {each.said_id for each in found}
        brought = {*self.own, *(name for each in descriptions for name in each.own)}
        own = tuple(
            with_known_ids(without_games_own(each, brought - {each.id} | inner), self.known_ids)
            for each in found
        )
        return own, {
            path: contents[path].decode("utf-8-sig", "replace")
            for path in texts
            if path in contents
        }

    def _homes_of(self, own: Sequence[OwnWords]) -> tuple[Home, ...]:
        """Return what is known of the folders of their own that mods get."""
        if own and self.lays_in_mods:
            return tuple(_home(each) for each in own)
        if self.homes >= _ANSWERED:
            return (Home("", f"like {self.homes} other mods of the catalog: a folder of its own"),)
        return ()


def _home(own: OwnWords) -> Home:
    folder = own.folder.rstrip("/").rpartition("/")[2]
    reason = f"its {os.path.basename(own.file)} lies in the mod's own folder"
    return Home(folder, reason, own.folder)


def _in_own_folders(catalog: Catalog, place: PlacePath) -> int:
    """Return how many mods of a catalog lay all that they bring in a folder of their own."""
    return sum(
        all(next(parents(file_of(rule.to)), None) == place for rule in mod.releases[0].places)
        for mod in catalog.mods.values()
        if mod.releases and mod.releases[0].places and not mod.releases[0].open_lines
    )


def _with_names(paths: Sequence[str], folder: str) -> list[tuple[str, str]]:
    """Return the files to read with the names that a card gives them, in order. Raises ArchiveFault."""
    for path in paths:
        if not os.path.exists(path):
            raise ArchiveFault(f"{path}: not found", hint="Name a file, or a folder.")
    if len(paths) == 1 and os.path.isdir(paths[0]):
        name = os.path.basename(os.path.abspath(paths[0])) + ".zip"
        packed = os.path.join(folder, "packed")
        pack_folder(paths[0], packed)
        return [(packed, name)]
    found = [(part_of(path), path) for path in paths]
    parts = [(part, path) for part, path in found if part]
    if len(parts) != len(paths) or len({part.key for part, _ in parts}) > 1:
        if len(paths) > 1:
            raise ArchiveFault(
                "these files are not parts of the same archive",
                hint="Describe one archive at a time, or name all of its parts.",
            )
        return [(paths[0], os.path.basename(paths[0]))]
    state = gather(parts)
    if state.missing:
        raise ArchiveFault(f"{state.stem}: {state.progress}", hint="Name the other parts, too.")
    return [(path, os.path.basename(path)) for path in state.ordered]


def _texts_of(members: Sequence[Member]) -> list[str]:
    """Return the texts in which an archive describes itself, the shallowest first."""
    wanted = [
        member for member in members if member.size <= _TEXT_BYTES and TOLD_IN.search(member.path)
    ]
    wanted = sorted(wanted, key=lambda each: (each.path.count("/"), each.path))[:_MOST_TEXTS]
    return [str(each.path) for each in wanted]


def _contents(
    archive: Archive, members: Sequence[Member], wanted: set[str], folder: str
) -> dict[str, bytes]:
    """Return the contents of some members, by path; of none that is larger than a description."""
    chosen = [each for each in members if each.path in wanted and each.size <= 1 << 20]
    jobs = [
        Extraction(
            member=member.stored_as,
            digest=member.digest,
            target=os.path.join(folder, f"text-{number}"),
            mode=0o600,
        )
        for number, member in enumerate(chosen)
    ]
    archive.extract(jobs)
    found = {}
    for member, job in zip(chosen, jobs, strict=True):
        with open(job.target, "rb") as file:
            found[str(member.path)] = file.read()
    return found
