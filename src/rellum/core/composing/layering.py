"""From a line-up to its layers: which files each release brings, edits and removes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from rellum.core.archives.model import Member
from rellum.core.catalog.model import Catalog, GameSheet, Release
from rellum.core.catalog.release_rules import PlaceRule, SettingsUpdate
from rellum.core.catalog.toml_lines import place_of
from rellum.core.composing.diff_series import edits_of_files
from rellum.core.composing.grafting import graft_layers
from rellum.core.composing.in_folder import InFolder
from rellum.core.composing.needed import (
    MissingArchives,
    NeededFile,
    Part,
    missing_among,
    parts_of,
    release_of,
)
from rellum.core.composing.workshop import Workshop
from rellum.core.layers.model import Brought, DiskFile, Layer, LayerEdit, never_the_users
from rellum.core.layers.placing import packed_archive, place_archives
from rellum.core.layers.slot_shapes import Shape
from rellum.core.layers.spelling import spell_alike
from rellum.core.layers.texts import fill_names, fill_text
from rellum.core.layers.wrappers import (
    KnownFolders,
    PlacingFault,
    SameName,
    same_names,
    seen_through,
)
from rellum.core.pack.lock_file import LockedRelease, LockFile, NoLineUp
from rellum.core.pack.pack_file import PackFile
from rellum.core.shelf.index import ShelfEntry
from rellum.core.solving.problem import are_chosen
from rellum.core.values.ids import ReleaseName
from rellum.core.values.paths import (
    MemberPlace,
    PlacePath,
    TargetPath,
    fault_in_relative,
    file_of,
    shown,
)
from rellum.core.values.roles import Role


@dataclass(frozen=True, slots=True, kw_only=True)
class LineUpInputs:
    """A line-up with all that its layers depend on."""

    lock: LockFile
    pack: PackFile
    catalog: Catalog
    workshop: Workshop
    known: KnownFolders


_ROLES: Mapping[SettingsUpdate, Role] = {"replace": "", "merge": "merge", "leave": "mine"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Layers:
    """All layers in order, grafts first; how each graft fits its slot; what is laid in several parts.

    ``ways`` are releases with the way in which they are laid, in words. ``same_names`` are folders of
    archives that would come into one of the same name.
    """

    layers: tuple[Layer, ...]
    shapes: tuple[Shape, ...]
    ways: tuple[tuple[ReleaseName, str], ...]
    same_names: tuple[SameName, ...]

    @property
    def notes(self) -> tuple[tuple[ReleaseName, str], ...]:
        """Notes on how each release is laid, by its owner."""
        ways = [(owner, f"{owner} is installed as {way}") for owner, way in self.ways]
        return (*ways, *((layer.owner, note) for layer in self.layers for note in layer.notes))


def find_layers(line_up: LineUpInputs) -> Layers:
    """Return the layers of a line-up, in load order, over the pack's grafts.

    Raises MissingArchives, NoLineUp, PlacingFault, TextFault, GraftFault.
    """
    grafted = tuple(graft_layers(line_up.pack.grafts, line_up.catalog, line_up.workshop))
    ways = _ways(line_up)
    names = dict(_names(line_up))
    releasing = [(_Releasing(line_up, locked, names), way) for locked, way in ways]
    layers = tuple(layer for layer, _ in grafted) + tuple(
        layer for each, way in releasing for layer in each.layers(way)
    )
    if line_up.catalog.sheet.path_rules.folds_case:
        layers = spell_alike(layers, line_up.workshop.opened.state.spellings)
    words = ((locked.name, _way_words(way)) for locked, way in ways if way)
    return Layers(
        layers=layers,
        shapes=tuple(shape for _, shape in grafted),
        ways=tuple((owner, text) for owner, text in words if text),
        same_names=tuple(found for each, _ in releasing for found in each.same_names),
    )


def _ways(line_up: LineUpInputs) -> list[tuple[LockedRelease, list[Part]]]:
    """Return how each release of the line-up is laid. Raises MissingArchives."""
    shelf, catalog = line_up.workshop.shelf, line_up.catalog
    in_folder = InFolder(line_up.workshop.opened.state, line_up.workshop.roots, line_up.known)
    ways = [
        (locked, parts_of(locked, catalog, shelf, in_folder)) for locked in line_up.lock.releases
    ]
    _refuse_missing(missing_among(each for _, way in ways for _, files in way for each in files))
    return ways


def _way_words(way: list[Part]) -> str:
    """Return in words how a release of several parts is laid; nothing where there is only one."""
    here = [part.label for part, files in way if files and all(each.in_folder for each in files)]
    if here:
        patches = [part.label for part, _ in way[len(here) :]]
        return f"patch {', then '.join(patches)} over {here[-1]} in the folder" if patches else ""
    whole, *patches = [part.label for part, _ in way]
    return f"{whole} in full, then patch {', then '.join(patches)}" if patches else ""


def _refuse_missing(missing: Sequence[NeededFile]) -> None:
    if missing:
        count = "an archive" if len(missing) == 1 else f"{len(missing)} archives"
        raise MissingArchives(
            f"the line-up needs {count} that the shelf lacks",
            details=tuple(
                f"{each.file.name}  ({each.release.name}"
                + (")" if each.file.size is None else f", {each.file.size:,} bytes)")
                for each in missing
            ),
            hint="Download them with 'rellum fetch', or add them with 'rellum take FILE'.",
        )


def _names(line_up: LineUpInputs) -> Iterator[tuple[str, str]]:
    """Yield the names that stand for something in the texts and places of every card."""
    sheet, lock = line_up.catalog.sheet, line_up.lock
    yield "game.id", sheet.id
    yield "game.name", sheet.name
    yield "game.version", lock.game_version.text
    yield "game.edition", lock.edition or ""
    yield "pack.name", line_up.pack.name
    for rule in sheet.expansion_rules:
        yield f"expansion.{rule.answer}", "yes" if rule.answer in lock.expansions else "no"
    for name, text in line_up.pack.variables:
        yield f"variable.{name}", text
    for name, found in _names_of_files(sheet, line_up.workshop).items():
        yield f"name.{name}", found


def _names_of_files(sheet: GameSheet, workshop: Workshop) -> dict[str, str]:
    """Return the names that follow files of the game; without those whose file is not one."""
    found = {}
    for name, rule in sheet.names.items():
        paths = list(workshop.vanilla(rule.pattern))
        if len(paths) == 1:
            file = paths[0].rpartition("/")[2]
            found[name] = file if rule.with_ending else file.rpartition(".")[0] or file
    return found


class _Releasing:
    """Makes the layers of one release of the line-up."""

    def __init__(
        self, line_up: LineUpInputs, locked: LockedRelease, names: Mapping[str, str]
    ) -> None:
        self.line_up = line_up
        self.locked = locked
        self.same_names: list[SameName] = []
        options = {f"option.{group}": " ".join(chosen) for group, chosen in locked.options}
        self.values = {**names, "mod.id": locked.mod, "mod.version": locked.version, **options}

    def layers(self, way: list[Part]) -> Iterator[Layer]:
        """Yield a release's layers: the full release, then patch after patch, all of one owner."""
        locked = self.locked
        release = release_of(locked, self.line_up.catalog)
        if release is None:
            raise NoLineUp(
                f"the card of {locked.mod} no longer has a release {locked.version}",
                hint="Make a new line-up with 'rellum resolve'.",
            )
        shelf = self.line_up.workshop.shelf
        for part, files in way:
            entries = [each.entry for each in files if each.entry]
            archives = tuple((entry, shelf.members(entry.digest)) for entry in entries)
            yield self._layer(part, release, archives)

    def _layer(
        self,
        part: Release,
        release: Release,
        archives: Sequence[tuple[ShelfEntry, Sequence[Member]]],
    ) -> Layer:
        """Return the layer of one part; how files are kept up to date is the whole release's word."""
        rules = [
            replace(rule, to=self._place(rule.to, rule))
            for rule in part.places
            if are_chosen(rule.options, self.locked.options)
        ]
        taken = [rule for rule in rules if rule.takes_members]
        files: dict[TargetPath, Brought] = {
            file.path: file
            for file in place_archives(taken, archives, self.locked.options, self.line_up.known)
        }
        self.same_names += same_names(taken, archives, self.line_up.known)
        for rule in rules:
            if made := self._made(rule, archives):
                files[rule.to] = made
        edits = [
            LayerEdit(edit=edit, archives=tuple(archives))
            for edit in part.edits
            if are_chosen(edit.options, self.locked.options)
        ]
        return Layer(
            mod=self.locked.mod,
            version=release.version.text,
            files=tuple(files.values()),
            folders=tuple(file_of(rule.to) for rule in rules if rule.is_folder),
            edits=tuple(edits_of_files(self.line_up.workshop, edits)) if edits else (),
            removes=part.removes,
            update=update_rule(release, self.line_up.catalog.sheet),
            build=self.locked.build,
            notes=tuple(seen_through(taken, archives, self.line_up.known)),
        )

    def _made(
        self, rule: PlaceRule, archives: Sequence[tuple[ShelfEntry, Sequence[Member]]]
    ) -> Brought | None:
        """Return what a rule brings that takes nothing out of an archive. Raises PlacingFault."""
        where = place_of(rule.source)
        workshop = self.line_up.workshop
        if rule.is_packed:
            entry = packed_archive(rule, [entry for entry, _ in archives])
            file = workshop.shelf.path_of(entry.digest)
            return DiskFile(path=rule.to, file=file, digest=entry.digest, size=entry.size)
        if rule.text is not None:
            text = fill_text(rule.text, self.values, where)
            return workshop.make_text(rule.to, text.encode("utf-8"))
        if rule.copy is None:
            return None
        below = workshop.below(workshop.spelt(rule.copy))
        if below is None:
            raise PlacingFault(
                f"{where}: there is no vanilla file {shown(rule.copy)} to copy",
                hint="Correct 'copy' in the card.",
            )
        return replace(below, path=rule.to, file=workshop.file(below))

    def _place(self, path: TargetPath, rule: PlaceRule) -> TargetPath:
        """Fill in the names in a path, where a place is called after a file of the game."""
        if "${" not in file_of(path):
            return path
        if isinstance(path, MemberPlace):
            return MemberPlace(self._filled(path.container, rule), path.member)
        return self._filled(path, rule)

    def _filled(self, path: PlacePath, rule: PlaceRule) -> PlacePath:
        where = place_of(rule.source)
        filled = fill_names(path, self.values, where)
        if fault := fault_in_relative(filled[1:]):
            raise PlacingFault(f"{where}: {shown(path)} becomes {shown(filled)}: {fault}")
        return PlacePath(filled)


def update_rule(release: Release, sheet: GameSheet) -> Callable[[TargetPath], Role]:
    """Return how a release's files are brought up to date: by its own word, else by the sheet's."""
    rules = (*release.settings, *sheet.settings)
    carried = (*release.carry, *sheet.carry)
    if not rules and not carried:
        return never_the_users
    paths = sheet.path_rules
    tests = [(paths.test([each]), _ROLES[word]) for each, word in rules]
    is_carried = paths.test(carried)

    def role_of(path: TargetPath) -> Role:
        path = file_of(path)
        for fits, role in tests:
            if fits(path):
                return role
        return "mine" if is_carried(path) else ""

    return role_of
