"""Press: from a working folder to the archive that others install, and its release in a card."""

from __future__ import annotations

import os
import shutil
import tempfile
from dataclasses import replace
from typing import NamedTuple

from rellum.core.actions.gather.describe import Describer
from rellum.core.actions.share.press_patch import (
    PressedPatch,
    Wanted,
    press_patch,
    refuse_no_patch,
    refuse_rules,
)
from rellum.core.actions.share.working_folder import CannotPress, WorkingFolder
from rellum.core.archives.model import Member
from rellum.core.catalog.model import Mod, Release
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.describing.card_files import CardFolder, Saved
from rellum.core.describing.card_growth import with_licence, with_new_file, with_words
from rellum.core.describing.card_text import Described
from rellum.core.describing.naming import Guess
from rellum.core.describing.shape import Rule, Shape
from rellum.core.layers.placing import place_archives
from rellum.core.pack.session import Session
from rellum.core.shelf.folder_pack import begins_like_program, write_zip
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf
from rellum.core.shelf.take_in import StoreOptions, take
from rellum.core.values.ids import ModId
from rellum.core.values.paths import PlacePath, file_of, shown_file
from rellum.core.words import count_words

_MOST_NAMES = 6


class PressOptions(NamedTuple):
    """How a folder is pressed. Empty texts: the folder itself tells, or the card that is there.

    ``to``: the archive's file, or the folder it goes to. ``into``: where in the game it belongs.
    ``again``: in place of the same version. ``fresh``: with identifiers of its own. ``patch_from``: a release
    over which an update patch is made as well; ``as_diffs``: texts in it as unified diffs.
    """

    folder: str
    mod: str = ""
    version: str = ""
    to: str = ""
    into: str = ""
    licence: str = ""
    leave_out: tuple[str, ...] = ()
    again: bool = False
    fresh: bool = False
    patch_from: str = ""
    as_diffs: bool = False


class Changes(NamedTuple):
    """What is other in an archive than in that of the release before it, by the names of its files."""

    since: str
    new: tuple[str, ...]
    changed: tuple[str, ...]
    gone: tuple[str, ...]


class Pressed(NamedTuple):
    """What was pressed. ``size`` is in bytes.

    left_out: files of the folder that are not in the archive
    wrapper: the folder in the folder that the content was in; empty where there was none
    raised_from: the version that the mod's own description told before
    lays, replaces: the paths that the release lays, and the vanilla files among them
    marks: lines of the card that a person must still decide
    """

    mod: ModId
    version: str
    file: str
    size: int
    sha256: str
    member_count: int
    left_out: tuple[str, ...]
    wrapper: str
    raised_from: str
    is_fresh: bool
    licence: str
    card: Saved
    changes: Changes | None
    lays: tuple[PlacePath, ...]
    replaces: tuple[PlacePath, ...]
    patch: PressedPatch | None


def press(request: Request, how: PressOptions) -> Pressed:
    """Press a working folder. The folder itself is only changed where its description tells the version.

    Raises CannotPress, CannotWriteValue, CannotSave, ArchiveFault, ShelfFault, OSError, and what opening the
    pack and reading the catalog can raise.
    """
    with (
        open_pack(request) as opened,
        Shelf(request.shelf_folder) as shelf,
        tempfile.TemporaryDirectory(prefix="rellum-") as work,
    ):
        return _Press(opened, shelf, how, work).run(request)


class _Press:
    """One run: what is found out on the way stays here."""

    def __init__(self, opened: Session, shelf: Shelf, how: PressOptions, work: str) -> None:
        self.opened, self.shelf, self.how, self.work = opened, shelf, how, work
        self.describer = Describer(opened)
        self.sheet = self.describer.catalog.sheet
        leave_out = (*self.sheet.press.leave_out, *how.leave_out)
        self.folder = WorkingFolder(
            how.folder, opened.roots, self.sheet.self_descriptions, leave_out
        )
        self.mod_id = ModId(self.folder.mod_id(how.mod, self.describer.known_ids))
        self.version = self.folder.version(how.version)
        self.mod: Mod | None = self.describer.catalog.mods.get(self.mod_id)
        self.before = self._before()

    def run(self, request: Request) -> Pressed:
        """Press, in an order in which nothing stands half done."""
        name = f"{self.mod_id}-{self.version}{self.sheet.press.ending}"
        packed = os.path.join(self.work, name)
        raised_from = self.folder.raise_version(self.version, self.work)
        if self.how.fresh:
            self.folder.renew_identity(self.work)
        else:
            self._refuse_other_identity()
        write_zip(self.folder.files, packed, begins_like_program)
        described = self._described(packed, name, request)
        members = self.describer.members
        self._refuse_same_version(described)
        if self.how.patch_from:
            known = self.mod.releases if self.mod else ()
            old = refuse_no_patch(known, self.how.patch_from, self.version, self.shelf)
            self._refuse_same_files(old, members)
        target = self._target(name)
        taken = take(self.shelf, packed, StoreOptions(name=name, also=frozenset({"sha256"})))
        self.shelf.index.add_pack(self.opened.home.folder)
        changes = self._changes(members)
        saved = self._save(described, members, changes)
        _put(packed, target)
        self.folder.write_back()
        opened = self.opened.with_files_of(self.opened.home)
        lays = self._lays(opened, taken.entry, members)
        patch = self._patch(opened, target) if self.how.patch_from else None
        return Pressed(
            mod=self.mod_id,
            version=self.version,
            file=target,
            size=taken.entry.size,
            sha256=described.files[0].sha256,
            member_count=len(members),
            left_out=self.folder.left_out,
            wrapper=self.folder.wrapper,
            raised_from=raised_from,
            is_fresh=self.how.fresh,
            licence=self._licence(opened),
            card=saved,
            changes=changes,
            lays=lays,
            replaces=tuple(sorted(self.opened.state.baseline(lays))),
            patch=patch,
        )

    def _patch(self, opened: Session, target: str) -> PressedPatch:
        """Make the patch over an older release, too. Raises CannotPress."""
        releases = opened.files.catalog.mods[self.mod_id].releases
        old = refuse_no_patch(releases, self.how.patch_from, self.version, self.shelf)
        new = next(each for each in releases if each.version.text == self.version)
        refuse_rules(new)
        folder = CardFolder(opened.files.catalog, self.describer.builds)
        wanted = Wanted(
            old,
            new,
            self.how.as_diffs,
            write_card=lambda text: folder.replace(self.mod_id, self.version, text),
        )
        return press_patch(opened, self.shelf, wanted, target)

    def _before(self) -> Release | None:
        """Return the release that this one follows: the newest other that has an archive of its own."""
        releases = self.mod.releases if self.mod else ()
        return next(
            (each for each in releases if each.version.text != self.version and each.files), None
        )

    def _entry_of(self, release: Release) -> ShelfEntry | None:
        files = release.full.files if release.full else release.files
        return self.shelf.find(files[0], release) if len(files) == 1 else None

    def _refuse_other_identity(self) -> None:
        """Refuse an update that a game would take for another mod. Raises CannotPress."""
        entry = self._entry_of(self.before) if self.before else None
        if entry is None or self.before is None or not self.folder.identity:
            return
        members = self.shelf.members(entry.digest)
        old = self.folder.identity_in(members, self.shelf.open(entry.digest), self.work)
        if old and old != self.folder.identity:
            raise CannotPress(
                f"{self.folder.described_in} has other identifiers than {self.before.name}: "
                "to the game it is another mod",
                details=(f"before: {', '.join(old)}", f"now: {', '.join(self.folder.identity)}"),
                hint="Put the old ones back; or press another mod: --mod ID --fresh",
            )

    def _refuse_same_files(self, old: Release, members: tuple[Member, ...]) -> None:
        """Refuse a patch between releases with the same files, before anything is written. Raises
        CannotPress.
        """
        entry = self._entry_of(old)
        there = self.shelf.members(entry.digest) if entry else ()
        if {(each.path, each.digest) for each in there} == {(m.path, m.digest) for m in members}:
            raise CannotPress(
                f"{self.mod_id} {self.version} has the same files as {old.name}: no patch is needed",
                hint="Press it without --patch-from.",
            )

    def _refuse_same_version(self, described: Described) -> None:
        """Refuse a second archive of a version that the card has. Raises CannotPress."""
        same = self._same_version()
        if same and self.how.again and same[0].patches:
            raise CannotPress(
                f"{same[0].name} can be had as an update patch too, which would not fit any more",
                hint=f"Take the release out of {shown_file(same[0].source.file)}, or raise the version.",
            )
        if same and self.how.patch_from and same[0].patches:
            raise CannotPress(
                f"{same[0].name} can be had as an update patch over {same[0].patches} already",
                hint="Raise the version: --version X. Or press without --patch-from.",
            )
        if not same or self.how.again:
            return
        if any(
            file.sha256 == described.files[0].sha256 for each in same for file in each.all_files
        ):
            return
        raise CannotPress(
            f"{shown_file(same[0].source.file)} has {self.mod_id} {self.version} with another archive",
            hint="Raise the version: --version X. Or replace it, if nobody has it yet: --again",
        )

    def _same_version(self) -> list[Release]:
        releases = self.mod.releases if self.mod else ()
        return [each for each in releases if each.version.text == self.version]

    def _described(self, packed: str, name: str, request: Request) -> Described:
        """Return the draft of the archive, under the name and version that it is pressed with."""
        found = self.describer.describe([packed], request.listen)
        naming = found.naming
        naming = replace(
            naming,
            id=Guess(value=self.mod_id, source=""),
            name=naming.name if naming.name.value else Guess(value=self.mod_id, source="its id"),
            version=Guess(value=self.version, source=""),
            is_patch=False,
        )
        files = (replace(found.files[0], name=name),)
        shape = self._stated_shape(found.shape) if self.how.into else _certain(found)
        return replace(found, naming=naming, files=files, shape=shape, patches="", has_card=False)

    def _stated_shape(self, found: Shape) -> Shape:
        place = self.how.into if self.how.into.endswith("/") else f"{self.how.into}/"
        rule = Rule(
            take="**", to=place, expect=(), reason="as 'rellum press --into' said", is_sure=True,
            replaces=(), choice=None, leave_out=tuple(found.left_out),
        )  # fmt: skip
        return Shape(wrapper="", rules=(rule,), alternatives=(), left_out=())

    def _target(self, name: str) -> str:
        to = self.how.to or os.path.dirname(os.path.abspath(self.how.folder))
        target = os.path.join(to, name) if not self.how.to or os.path.isdir(to) else to
        target = os.path.abspath(target)
        if os.path.isdir(target) or not os.path.isdir(os.path.dirname(target)):
            raise CannotPress(
                f"{target} cannot be written: its folder is not there, or it is a folder itself",
                hint="Name a file, or a folder that is there, with --to.",
            )
        return target

    def _changes(self, members: tuple[Member, ...]) -> Changes | None:
        entry = self._entry_of(self.before) if self.before else None
        if self.before is None or entry is None:
            return None
        old = {str(each.path): each.digest for each in self.shelf.members(entry.digest)}
        now = {str(each.path): each.digest for each in members}
        return Changes(
            since=self.before.label,
            new=tuple(sorted(now.keys() - old.keys())),
            changed=tuple(
                sorted(path for path in now.keys() & old.keys() if now[path] != old[path])
            ),
            gone=tuple(sorted(old.keys() - now.keys())),
        )

    def _save(
        self, described: Described, members: tuple[Member, ...], changes: Changes | None
    ) -> Saved:
        """Write the release into its card, with what changed and under which licence it stands."""
        folder = CardFolder(self.describer.catalog, self.describer.builds)
        same = self._same_version()
        words = _change_words(changes) if changes else []
        if same and self.how.again:
            text = _read(same[0].source.file)
            file, release = described.files[0], same[0]
            old = release.full.files[0] if release.full else release.files[0]
            text = with_new_file(text, old.sha256 or "", file, described.unpacked)
            return folder.replace(self.mod_id, self.version, self._licenced(text))
        saved = folder.save(described, members, version_is_stated=True)
        if not saved.was_there or self.how.licence:
            text = self._licenced(_read(saved.file))
            text = text if saved.was_there else with_words(text, words)
            saved = replace(folder.replace(self.mod_id, self.version, text), is_new=saved.is_new)
        return saved

    def _licenced(self, text: str) -> str:
        return with_licence(text, self.how.licence) if self.how.licence else text

    def _licence(self, opened: Session) -> str:
        mod = opened.files.catalog.mods.get(self.mod_id)
        return (mod.licence or "") if mod else ""

    def _lays(
        self, opened: Session, entry: ShelfEntry, members: tuple[Member, ...]
    ) -> tuple[PlacePath, ...]:
        """Lay the release on paper; nothing where its card has lines to decide. Raises PlacingFault."""
        mod = opened.files.catalog.mods.get(self.mod_id)
        release = _release_of(mod, self.version)
        if release is None or release.open_lines:
            return ()
        rules = release.full.places if release.full else release.places
        found: set[PlacePath] = set()
        for rule in rules:
            if rule.takes_members:
                chosen = tuple((group, (choice,)) for group, choice in rule.options)
                laid = place_archives([rule], [(entry, members)], chosen)
                found |= {file_of(each.path) for each in laid}
        return tuple(sorted(found))


def _certain(found: Described) -> Shape:
    """Return the shape of an archive whose top is known: only what describes the mod must be there."""
    told_in = {os.path.basename(each.file) for each in found.own}
    rules = (
        replace(rule, expect=tuple(each for each in rule.expect if each in told_in))
        for rule in found.shape.rules
    )
    return replace(found.shape, rules=tuple(rules))


def _release_of(mod: Mod | None, version: str) -> Release | None:
    releases = mod.releases if mod else ()
    return next((each for each in releases if each.version.text == version), None)


def _change_words(changes: Changes) -> list[str]:
    """Return the lines of a card that tell what is other than in the release before."""
    lines = [f"Since {changes.since}:"]
    for what, names in (("new", changes.new), ("changed", changes.changed), ("gone", changes.gone)):
        if names:
            more = f" and {len(names) - _MOST_NAMES:,} more" if len(names) > _MOST_NAMES else ""
            count = count_words(len(names), "file", "files")
            lines.append(f"  {count} {what}: {', '.join(names[:_MOST_NAMES])}{more}")
    return lines if len(lines) > 1 else [f"Since {changes.since}: nothing is other"]


def _read(file: str) -> str:
    with open(file, encoding="utf-8", newline="") as stream:
        return stream.read()


def _put(packed: str, target: str) -> None:
    """Put a pressed archive where it is wanted, whole or not at all. Raises OSError."""
    unfinished = f"{target}.rellum-new"
    try:
        shutil.copyfile(packed, unfinished)
        os.replace(unfinished, target)
    except OSError:
        if os.path.exists(unfinished):
            os.unlink(unfinished)
        raise
