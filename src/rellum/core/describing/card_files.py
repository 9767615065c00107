"""Writing drafts into a catalog's folder of cards: new cards, and releases of cards that are there."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from rellum.core.archives.model import Member
from rellum.core.catalog.cards import find_ordering, read_card
from rellum.core.catalog.model import Catalog, Mod, Release
from rellum.core.catalog.open_lines import open_lines
from rellum.core.catalog.release_rules import PlaceRule
from rellum.core.catalog.schemas import lay_schemas, schema_line
from rellum.core.catalog.tables import Fault, parse_toml
from rellum.core.catalog.toml_lines import forget_lines, line_of
from rellum.core.describing.builds import BuildSigns
from rellum.core.describing.card_growth import (
    last_header,
    release_line,
    with_build,
    with_mark,
    with_release,
)
from rellum.core.describing.card_text import Described, card_text
from rellum.core.durable import write_durably
from rellum.core.errors import UserError
from rellum.core.hashing import Digest
from rellum.core.layers.placing import place_archives
from rellum.core.layers.wrappers import PlacingFault
from rellum.core.shelf.index import ShelfEntry
from rellum.core.values.paths import shown_file
from rellum.core.versions.version import VersionSyntaxError

_FEW: Final = 0.3
"""What has a smaller share of a release's bytes is no full release, but laid over one."""


class CannotSave(UserError):
    """A draft cannot be written into the catalog."""

    code = "cannot-save"


@dataclass(frozen=True, slots=True, kw_only=True)
class Saved:
    """A release that a card has now. ``marks`` are its lines that a person must still decide.

    ``is_new``: the card is new; ``was_there``: it had the release already.
    """

    mod: str
    version: str
    file: str
    marks: int
    is_new: bool
    was_there: bool = False


class CardFolder:
    """The folder of cards that drafts are written to: that of the first catalog."""

    def __init__(self, catalog: Catalog, signs: BuildSigns) -> None:
        self.catalog = catalog
        self._signs = signs
        self.folder = os.path.join(catalog.folders[0], "cards")

    def save(
        self, described: Described, members: Sequence[Member], *, version_is_stated: bool = False
    ) -> Saved:
        """Write a draft. Raises CannotSave, OSError.

        ``version_is_stated``: it is a release of its own, even if another version has the same archive.
        """
        mod_id = described.naming.id.value
        if not mod_id:
            raise CannotSave(
                f"{described.files[0].name}: neither its name nor its content tells an id",
                hint="Describe it alone with --to CARD.toml, and fill in the id.",
            )
        file = self._file_of(mod_id)
        if not os.path.exists(file):
            lay_schemas(
                os.path.join(self.catalog.folders[0], "schemas"), ("sheet", "card", "trials")
            )
            text = f"{schema_line('../schemas/card.json')}\n{card_text(described)}"
            self._write(file, text)
            return self._saved(described, file, text, is_new=True)
        return self._add(file, described, members, version_is_stated=version_is_stated)

    def replace(self, mod_id: str, version: str, text: str) -> Saved:
        """Write another text of a card that is there. Raises CannotSave where it has mistakes, OSError."""
        file = self._file_of(mod_id)
        if not self._loads(text, file):
            raise CannotSave(
                f"{shown_file(file)} could not be changed without a mistake",
                hint="Write the release into it by hand.",
            )
        self._write(file, text)
        start = last_header(text)
        marks = sum(each >= start for each in open_lines(text))
        return Saved(mod=mod_id, version=version, file=file, marks=marks, is_new=False)

    def _file_of(self, mod_id: str) -> str:
        """Return the file of a mod's card: where it is, else where it would be."""
        known = self.catalog.mods.get(mod_id)  # type: ignore[call-overload]
        return known.source.file if known else os.path.join(self.folder, f"{mod_id}.toml")

    def _add(
        self,
        file: str,
        described: Described,
        members: Sequence[Member],
        *,
        version_is_stated: bool,
    ) -> Saved:
        """Add a release to a card that is there; a version that it has already is left as it is."""
        with open(file, encoding="utf-8", newline="") as stream:
            before = stream.read()
        mod = self._read(file)
        _refuse_namesake(mod, described)
        version = described.naming.version.value
        hashes = {each.sha256 for each in described.files}
        for release in mod.releases:
            is_other = version_is_stated and release.version.text != version
            if not is_other and hashes & {each.sha256 for each in release.all_files}:
                return self._saved(described, file, before, was_there=True)
        same = [each for each in mod.releases if version and each.version.text == version]
        if same:
            return self._add_build(file, before, described, same)
        if not described.patches:
            described = replace(
                described,
                patches=patched(mod, described.unpacked, says_so=described.naming.is_patch),
            )
        line = line_of(mod.releases[0].source) if mod.releases else 0
        misfits = (
            _misfits(mod.releases[0], described, members) if described.patches else frozenset()
        )
        text = with_release(before, described, line, misfits)
        if fault := self._fault_of_shape(text, file, described, members):
            text = with_mark(text, last_header(text), fault)
        self._write(file, text)
        return self._saved(described, file, text)

    def _add_build(
        self, file: str, before: str, described: Described, same: Sequence[Release]
    ) -> Saved:
        """Add another file of a version as a build, if something tells the two apart. Raises CannotSave."""
        here = self._signs.of_release(same[0], has_own_words=bool(described.own))
        own_game = described.own[0].game if described.own else ""
        there = replace(described.build, game=described.build.game or own_game)
        first = "" if same[0].build else here.name
        text = ""
        if (
            there.name
            and (first or same[0].build)
            and there.name not in (first, *(each.build for each in same))
        ):
            line = release_line(before, line_of(same[0].source))
            text = with_build(before, described, line, (first, there.name))
        if not text or not self._loads(text, file):
            raise CannotSave(
                f"{described.files[0].name}: {shown_file(file)} has {same[0].mod} {same[0].version.text} "
                "already, with another file",
                hint="If it is a build or another part of that release, add it to the card by hand.",
            )
        self._write(file, text)
        marks = len(open_lines(text)) - len(open_lines(before))
        return replace(self._saved(described, file, text), marks=marks)

    def _loads(self, text: str, file: str) -> bool:
        """Whether a card's text has no mistakes."""
        import tomli

        faults: list[Fault] = []
        try:
            return self._parsed(tomli.loads(text), file, faults) is not None and not faults
        except (ValueError, VersionSyntaxError):
            return False

    def _read(self, file: str) -> Mod:
        """Read a card. Raises CannotSave where it has mistakes."""
        forget_lines()
        table, syntax = parse_toml(file)
        faults: list[Fault] = []
        mod = None
        if table is not None:
            mod = self._parsed(table, file, faults)
        if mod is None:
            details = (syntax,) if syntax else tuple(map(str, faults))
            raise CannotSave(
                f"{shown_file(file)} has mistakes, so nothing is added to it",
                details=details,
                hint="Correct them ('rellum vet'), then try again.",
            )
        return mod

    def _parsed(self, table: dict[str, object], file: str, faults: list[Fault]) -> Mod | None:
        mod_id, ordering = find_ordering(table)
        orderings: Mapping[str, object] = {**self.catalog.orderings, mod_id: ordering}
        return read_card(table, file, self.catalog.sheet.places, orderings, faults)  # type: ignore[arg-type]

    def _fault_of_shape(
        self, text: str, file: str, described: Described, members: Sequence[Member]
    ) -> str:
        """Say which carried rule takes nothing from the new archive; an empty text where all do."""
        import tomli

        try:
            mod = self._parsed(tomli.loads(text), file, [])
        except (ValueError, VersionSyntaxError):
            mod = None
        version = described.naming.version.value
        release = (
            next((each for each in mod.releases if each.version.text == version), None)
            if mod
            else None
        )
        faults = (
            _fault_of(rule, described, members) for rule in (release.places if release else ())
        )
        fault = next(filter(None, faults), "")
        return (
            f"carried over from the release before it, and does not fit: {fault}" if fault else ""
        )

    def _write(self, file: str, text: str) -> None:
        """Write a card that can be read back. Raises CannotSave, OSError."""
        import tomli

        try:
            tomli.loads(text)
        except ValueError as error:
            raise CannotSave(
                f"{shown_file(file)} could not be changed without a mistake: {error}",
                hint="Write the release into it by hand.",
            ) from error
        os.makedirs(os.path.dirname(file), exist_ok=True)
        write_durably(file, text.encode("utf-8"))
        forget_lines()

    def _saved(
        self,
        described: Described,
        file: str,
        text: str,
        *,
        is_new: bool = False,
        was_there: bool = False,
    ) -> Saved:
        start = last_header(text)
        marks = open_lines(text)
        return Saved(
            mod=described.naming.id.value,
            version=described.naming.version.value or "(version unknown)",
            file=file,
            marks=len(marks if is_new else [each for each in marks if each >= start]),
            is_new=is_new,
            was_there=was_there,
        )


def _refuse_namesake(mod: Mod, described: Described) -> None:
    """Refuse a mod that only seems to be the one of a card: it calls itself otherwise. Raises CannotSave."""
    own_id = described.naming.own_id
    if own_id and mod.own_id and own_id.casefold() != mod.own_id.casefold():
        raise CannotSave(
            f"{described.files[0].name}: its mod calls itself {own_id!r}, and the mod {mod.id} calls itself "
            f"{mod.own_id!r} ({shown_file(mod.source.file)})",
            hint="They seem to be two mods: describe it alone with --to CARD.toml, and give it another id.",
        )


def _misfits(release: Release, described: Described, members: Sequence[Member]) -> frozenset[int]:
    """Return the places of a release that take nothing from an archive which is laid over it."""
    return frozenset(
        number
        for number, rule in enumerate(release.places)
        if _fault_of(replace(rule, expect=()), described, members)
    )


def _fault_of(rule: PlaceRule, described: Described, members: Sequence[Member]) -> str:
    """Say why a rule takes nothing from an archive; an empty text where it does, or takes no members."""
    if not rule.takes_members:
        return ""
    entry = ShelfEntry(digest=Digest(""), size=0, sha256=None, name=described.files[0].name)
    try:
        place_archives([rule], [(entry, members)], rule_options(rule.options))
    except PlacingFault as fault:
        return fault.summary
    return ""


def patched(mod: Mod, unpacked: int, *, says_so: bool) -> str:
    """Return the version that an archive seems to go over: its name says so, or it is much smaller."""
    full = next((each for each in mod.releases if not each.patches and each.files), None)
    if full is None:
        return ""
    size = full.files[0].unpacked if len(full.files) == 1 else None
    is_small = size is not None and unpacked < _FEW * size
    return full.version.text if is_small or says_so else ""


def rule_options(
    chosen: Sequence[tuple[str, Sequence[str]]],
) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Return the options under which a rule applies: just those that it names."""
    return tuple((group, tuple(choices)[:1]) for group, choices in chosen)
