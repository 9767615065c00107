"""Taking archives one by one: each is read, checked in full, recognised, and put on the shelf."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Final, Literal

from rellum.core.actions.gather.take_checks import (
    UnfinishedCard,
    bytes_below,
    holds_only_archives,
    refuse_inner,
    refuse_other,
    refuse_unfinished,
    shape_fault,
)
from rellum.core.actions.match.wants import UnknownRelease
from rellum.core.archives.checksums import Listed, is_checksum_list, lists_beside
from rellum.core.archives.model import (
    AGAIN,
    SINGLE_FILE,
    ArchiveFault,
    Form,
    Limits,
    Member,
    NotAnArchive,
)
from rellum.core.archives.parts import Part, part_by_name, part_of
from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Catalog, Release
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import RellumError
from rellum.core.hashing import Digest
from rellum.core.layers.placing import inner_archives
from rellum.core.nearest import nearest
from rellum.core.pack.catalogs import catalog_of
from rellum.core.pack.home import pack_home
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.progress import Listener
from rellum.core.shelf import take_in
from rellum.core.shelf.folder_pack import pack_folder
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.intake import By, Hashes
from rellum.core.shelf.likeness import Likely, likeliest
from rellum.core.shelf.recognise import CardFiles, Recognised
from rellum.core.shelf.store import Shelf
from rellum.core.shelf.take_in import Stored, StoreOptions

Outcome = Literal["taken", "already there", "unknown", "part", "refused"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeOutcome:
    """What became of one file. ``reason`` and ``hint`` tell why one was refused, or what is missing.

    ``likely`` are the releases that an unknown archive may be. ``encoding`` is how its members' names
    were written where they were no Unicode. ``copies``: as how many files its links are laid. ``size`` is
    in bytes.
    """

    path: str
    outcome: Outcome
    known: Recognised | None = None
    size: int = 0
    digest: Digest | None = None
    form: Form | None = None
    reason: str = ""
    details: tuple[str, ...] = ()
    hint: str = ""
    likely: tuple[Likely, ...] = ()
    encoding: str = ""
    copies: int = 0

    @property
    def is_unknown(self) -> bool:
        """Whether it is on the shelf, and no card knows it."""
        return self.known is None and self.outcome in ("unknown", "already there")


@dataclass(frozen=True, slots=True, kw_only=True)
class HowToTake:
    """How files are taken. ``stated``: the release they are, as ``mod@version``, empty: unknown.

    ``each``: what lies in a folder is taken file by file, not the folder as one archive.
    """

    stated: str = ""
    by: By = "copy"
    each: bool = False


AS_COPIES: Final = HowToTake()
"""Each file is copied, and is what its hash says."""


def opened_taker(folder: str, shelf_folder: str, how: HowToTake, listen: Listener) -> ArchiveTaker:
    """Return a taker for the pack in ``folder``. Raises as ``take`` does."""
    home = pack_home(folder)
    pack = read_pack_file(home)
    catalog = catalog_of(home, pack)
    stated = find_release(catalog, how.stated) if how.stated else None
    shelf = Shelf(shelf_folder)
    return ArchiveTaker(catalog, shelf, pack.limits, how, stated, listen, pack.game_folder)


def find_release(catalog: Catalog, text: str) -> Release:
    """Return the release that ``mod@version`` names. Raises UnknownMod, UnknownRelease."""
    mod_id, _, label = text.partition("@")
    mod = find_mod(catalog, mod_id)
    for release in mod.releases:
        if label in (release.version.text, release.label):
            return release
    labels = [each.version.text for each in mod.releases]
    raise UnknownRelease(
        f"{mod_id} has no release {label or '(no version given)'!r}{nearest(label, labels)}",
        hint=f"It has {', '.join(labels[:8]) or 'none'}. Write {mod_id}@VERSION.",
    )


class ArchiveTaker:
    """Takes files for one catalog and one shelf."""

    def __init__(
        self,
        catalog: Catalog,
        shelf: Shelf,
        limits: Limits,
        how: HowToTake,
        stated: Release | None,
        listen: Listener,
        game_folder: str | None = None,
    ) -> None:
        self.catalog, self.shelf, self.limits = catalog, shelf, limits
        self._game = game_folder
        self._how, self._stated, self._listen = how, stated, listen
        self._cards = CardFiles(catalog)
        self._lists: list[Listed] = []

    def __enter__(self) -> ArchiveTaker:
        return self

    def __exit__(self, *_: object) -> None:
        self.shelf.close()

    def names(self, name: str) -> bool:
        """Whether a card has a file of this name."""
        return bool(self._cards.named(name))

    def take_all(self, paths: Iterable[str]) -> Iterator[TakeOutcome]:
        """Yield what became of each file, and of each archive in parts once, at the end."""
        files = list(self._expanded(paths))
        self._lists = lists_beside(files)
        sets: dict[tuple[str, str], tuple[Part, list[TakeOutcome]]] = {}
        for path in files:
            if os.path.isfile(path) and is_checksum_list(path):
                continue  # read with the others of its folder
            try:
                part = part_of(path) if os.path.isfile(path) else None
                if part is None:
                    yield self._take_whole(path)
                    continue
                taken = self._take_part(path, part)
                sets.setdefault((part.key, _release_of(taken)), (part, []))[1].append(taken)
            except RellumError as error:
                yield TakeOutcome(
                    path=path,
                    outcome="refused",
                    reason=error.summary,
                    details=error.details,
                    hint=error.hint,
                )
        for part, its_parts in sets.values():
            yield from self._complete(part, its_parts)

    def take_fetched(self, path: str, name: str, hashes: Hashes) -> TakeOutcome:
        """Take a file that was fetched under another name and hashed on its way; it is moved.

        Raises RellumError.
        """
        part = part_of(path, name)
        if part is None:
            return self._take_whole(path, name, hashes)
        return next(self._complete(part, [self._take_part(path, part, name, hashes)]))

    def _expanded(self, paths: Iterable[str]) -> Iterator[str]:
        for path in paths:
            if self._how.each and os.path.isdir(path):
                for name in sorted(os.listdir(path)):
                    inside = os.path.join(path, name)
                    # Of the folders in it, those that a card knows as an unpacked mod.
                    if os.path.isfile(inside) or self._cards.named(f"{name}.zip"):
                        yield inside
            else:
                yield path

    def _take_whole(self, path: str, name: str = "", hashes: Hashes | None = None) -> TakeOutcome:
        if os.path.isdir(path):
            return self._take_folder(path)
        refuse_unfinished(path)
        name = name or os.path.basename(path)
        how = self._taking(path, name, hashes)
        try:
            took = take_in.take(self.shelf, path, how, self._listen)
        except NotAnArchive as error:
            if not (self._stated or self._cards.named(name)):
                again = "If it should be an archive, download it again."
                raise NotAnArchive(
                    error.summary,
                    hint=f"{again if error.hint == AGAIN else error.hint} To take it as the file it "
                    "is, say which release it belongs to with --as MOD@VERSION.",
                ) from error
            took = take_in.take(self.shelf, path, replace(how, form=SINGLE_FILE), self._listen)
        except ArchiveFault as error:
            wrong = self._cards.mismatch(name, os.path.getsize(path))
            raise ArchiveFault(
                error.summary, details=(wrong,) if wrong else (), hint=error.hint
            ) from error
        return self._known(path, name, took)

    def _take_folder(self, path: str) -> TakeOutcome:
        """Take a folder as one archive; the folder itself always stays."""
        if self._game and os.path.exists(self._game) and os.path.samefile(path, self._game):
            raise ArchiveFault(f"{path}: this is the pack's game folder, not a mod's folder")
        if holds_only_archives(path):
            raise ArchiveFault(
                f"{path}: this folder holds only archives",
                hint="Add --each to take each of them.",
            )
        packed = self.shelf.incoming("-folder")
        name = os.path.basename(os.path.abspath(path)) + ".zip"
        try:
            self.shelf.check_space(bytes_below(path))
            pack_folder(path, packed)
            took = take_in.take(
                self.shelf, packed, replace(self._taking(packed, name), by="copy"), self._listen
            )
        finally:
            if os.path.exists(packed):
                os.unlink(packed)
        return self._known(path, name, took)

    def _take_part(
        self, path: str, part: Part, name: str = "", hashes: Hashes | None = None
    ) -> TakeOutcome:
        refuse_unfinished(path)
        name = name or os.path.basename(path)
        if part.kind == "rar":
            raise ArchiveFault(
                f"{path}: this is one volume of a multi-volume rar, which Rellum cannot read",
                hint="Unpack all volumes with a rar program, then take the folder.",
            )
        how = self._taking(path, name, hashes)
        took = take_in.take_part(self.shelf, path, part, how, self._listen)
        return self._known(path, name, took, is_part=True)

    def _complete(self, part: Part, its_parts: Sequence[TakeOutcome]) -> Iterator[TakeOutcome]:
        """Look whether an archive in parts is whole now, and into it if it is."""
        release = _release_of(its_parts[0])
        named = self._names_of_all(part, release)
        state = take_in.gathered(self.shelf, part, release, named)
        whole = None
        reason, hint = state.progress, "Take the other parts, too, in any order."
        if not state.missing and (state.total is None or state.total == len(state.ordered)):
            try:
                whole = take_in.complete(self.shelf, state.ordered, part.stem, self.limits)
            except RellumError as error:
                reason, hint = f"{state.progress}: {error.summary}", error.hint
                if state.total is not None:
                    for each in its_parts:
                        yield replace(each, outcome="refused", reason=reason, hint=hint)
                    return
                hint = "If there are more parts, take them, too. Otherwise download these again."
        for each in its_parts:
            if whole is None:
                yield replace(each, outcome="part", reason=reason, hint=hint)
                continue
            count = f"{len(whole.parts)} parts, all here"
            likely = () if each.known else self._likely(part.stem, whole.digest)
            outcome: Outcome = each.outcome if each.known else "unknown"
            yield replace(
                each, outcome=outcome, reason=count, form=whole.form, hint="", likely=likely
            )

    def _names_of_all(self, part: Part, of: str) -> tuple[str, ...]:
        """Return the names of all parts where one card names them as files of one release."""
        for entry in self.shelf.parts(part.key, of):
            for release, _ in self._cards.named(entry.name):
                if of and release.name != of:
                    continue
                names = [file.name for file in release.all_files]
                return tuple(
                    name
                    for name in names
                    if ((found := part_by_name(name)) and found.key == part.key)
                )
        return ()

    def _taking(self, path: str, name: str, hashes: Hashes | None = None) -> StoreOptions:
        """Return how a file is taken. ``hashes``: it was hashed on its way here."""
        size = os.path.getsize(path)
        wanted = self._cards.hashes_wanted(name, size)
        listed = [each for each in self._lists if each.name.casefold() == name.casefold()]
        stated = self._stated_file(name) if self._stated else None
        if stated and stated.sha256:
            wanted |= {"sha256"}

        def approve(found: Hashes) -> None:
            for each in listed:
                if found.others[each.kind] != each.digest:
                    raise ArchiveFault(
                        f"{path}: it is not as {each.place} says: its {each.kind} is "
                        f"{found.others[each.kind][:16]}…, listed {each.digest[:16]}…",
                        hint=AGAIN,
                    )
            known = self._cards.recognise(found)
            if stated and self._stated:
                refuse_other(path, self._stated, stated, found)
                if known and known.release != self._stated:
                    raise ArchiveFault(
                        f"{path}: is {known.release.name}, by its hash ({known.by}: "
                        f"{place_of(known.release.source)}), and not {self._stated.name}",
                        hint="Take it without --as.",
                    )
                return
            if known and known.release.open_lines:
                raise UnfinishedCard(known.release, path)
            if not known and (wrong := self._cards.mismatch(name, found.size)):
                raise ArchiveFault(
                    f"{path}: {wrong}", hint="Download the archive again, or correct the card."
                )

        return StoreOptions(
            name=name,
            also=wanted | {each.kind for each in listed},
            by=self._how.by,
            limits=self.limits,
            approve=approve,
            look=partial(self._refuse_other_shape, path),
            hashes=hashes,
        )

    def _stated_file(self, name: str) -> ReleaseFile:
        """Return which file of the stated release a file is. Raises UnknownRelease."""
        release = self._stated
        assert release is not None
        same = [file for file in release.all_files if file.name.casefold() == name.casefold()]
        open_ones = [file for file in release.all_files if self.shelf.find(file, release) is None]
        found = same or open_ones or list(release.all_files)
        if not found:
            raise UnknownRelease(
                f"the card of {release.mod} lists no file for {release.version} "
                f"({place_of(release.source)})",
                hint="Add a [[release.file]] with a 'name' to it.",
            )
        return found[0]

    def _known(self, path: str, name: str, took: Stored, *, is_part: bool = False) -> TakeOutcome:
        """Say what a file that is on the shelf now is."""
        known = self._cards.recognise(took.hashes)
        if self._stated and (known is None or known.release != self._stated):
            file = self._stated_file(name)
            known = Recognised(release=self._stated, file=file, by="stated")
            self.shelf.index.state(
                self._stated.mod,
                self._stated.version.text,
                self._stated.build,
                file.name,
                took.entry.digest,
            )
        if known:
            self.shelf.set_origin(took.entry.digest, known.origin)
        likely = () if known or is_part else self._likely(name, took.entry.digest)
        outcome: Outcome = "taken" if known or is_part else "unknown"
        reason = ""
        if outcome == "unknown" and not likely:
            members = self.shelf.members(took.entry.digest)
            inner = inner_archives(member.path for member in members)
            reason = f"it contains {inner}, which may be the mod" if inner else ""
        return TakeOutcome(
            path=path,
            outcome=outcome if took.is_new else "already there",
            known=known,
            size=took.entry.size,
            digest=took.entry.digest,
            form=took.entry.form,
            reason=reason,
            likely=likely,
            encoding=took.entry.encoding,
            copies=took.copies,
        )

    def _refuse_other_shape(
        self, path: str, entry: ShelfEntry, hashes: Hashes, members: tuple[Member, ...]
    ) -> None:
        """Refuse what has nothing of what a stated release lays, or only archives. Raises ArchiveFault."""
        known = self._cards.recognise(hashes)
        stated = self._stated
        if stated and (known is None or known.release != stated):
            if fault := shape_fault(stated, entry, members):
                raise ArchiveFault(
                    f"{path}: does not have the shape that {stated.name} says: {fault}",
                    hint="This is a different file than the card means, or its 'take' or 'expect' is "
                    "wrong.",
                )
        elif known is None:
            refuse_inner(path, members)

    def _likely(self, name: str, digest: Digest) -> tuple[Likely, ...]:
        entry = self.shelf.index.one("blake3 = ?", digest)
        size = entry.size if entry else 0
        return tuple(likeliest(self.catalog, name, size, self.shelf.members(digest)))


def _release_of(taken: TakeOutcome) -> str:
    """Return the release that a file is of, in words; empty where that is not known."""
    return taken.known.origin.label if taken.known else ""
