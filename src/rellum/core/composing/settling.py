"""Settings that the user changes: merged with what a release brings, by the pack's rule or asked."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from rellum.core.catalog.model import GameSheet
from rellum.core.catalog.toml_lines import place_of
from rellum.core.composing.workshop import NotAsAdopted, Workshop, Written, recipe_of, write_made
from rellum.core.errors import UserError
from rellum.core.hashing import Digest
from rellum.core.layers.model import Brought, DiskFile, MadeFile, Removal, Target, TargetFile
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.pack_file import PackFile
from rellum.core.patching.merge import Conflict, Merged, Side, merge_settings
from rellum.core.patching.model import PatchFault, SettingsForm
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import Owner
from rellum.core.values.paths import (
    PlacePath,
    UnsafePath,
    choice_for,
    file_of,
    parse_place_path,
    shown,
)
from rellum.core.words import quoted

MOST_BYTES = 16 << 20
"""Larger files are not settings, and are not merged."""


class UnsettledSettings(UserError):
    """The user and a release changed the same key of a settings file, and nobody says who wins."""

    code = "unsettled-settings"


class BadSettingsRule(UserError):
    """The pack settles settings of a path that cannot be."""

    code = "bad-settings-rule"


@dataclass(frozen=True, slots=True, kw_only=True)
class SettingsConflict:
    """A settings file in which the user and a release changed the same keys, and who wins: None is open.

    ``is_going``: the release is leaving the game.
    """

    path: PlacePath
    owner: Owner
    conflicts: tuple[Conflict, ...]
    side: Side | None
    is_going: bool = False

    @property
    def whose(self) -> str:
        """Whose changes meet the user's, in words."""
        return f"{self.owner}, which goes," if self.is_going else str(self.owner)


def settle(
    target: Target,
    workshop: Workshop,
    side_of: Callable[[PlacePath], Side | None],
    mods: Collection[str],
) -> tuple[Target, tuple[SettingsConflict, ...]]:
    """Return the target with settings merged, and the conflicts in them; open ones stay as they are.

    ``side_of`` says who wins a path, None where nobody said. ``mods`` are in the line-up: the user's files
    that wait for one of them are merged in. Raises PatchFault.
    """
    merging = {path: each for path, each in target.files.items() if each.role == "merge"}
    if not merging:
        return target, ()
    state = workshop.opened.state
    waiting = {each.path: each for each in state.kept.aside() if each.aside_for in mods}
    settler = _Settler(workshop, side_of, waiting)
    laid = state.laid(merging)
    baseline = state.baseline(merging)
    files = dict(target.files)
    for path, each in merging.items():
        if not isinstance(each.file, Removal):
            entry = baseline.get(path)
            native = entry.content if entry else None
            files[path] = settler.settled(path, each, each.file, laid.get(path), native)
    return replace(target, files=files), tuple(settler.conflicts)


class _Settler:
    def __init__(
        self,
        workshop: Workshop,
        rules: Callable[[PlacePath], Side | None],
        waiting: Mapping[PlacePath, Kept],
    ) -> None:
        self.workshop = workshop
        self.rules = rules
        self.waiting = waiting
        self.conflicts: list[SettingsConflict] = []

    def settled(
        self,
        path: PlacePath,
        target: TargetFile,
        theirs: Brought,
        laid: Laid | None,
        native: Content | None,
    ) -> TargetFile:
        """Return the file at a path with the user's changes and the release's."""
        as_brought = target._replace(base=theirs)
        mine = self.workshop.now(path)
        waiting = self.waiting.get(path) if laid is None else None
        if waiting and (mine is None or (native is not None and mine.digest == native.digest)):
            return self._returned(path, as_brought, waiting, theirs)
        if mine is None or (laid is None and target.is_users):
            return as_brought
        base = laid.base if laid else native.digest if native else None
        if laid and laid.content and not laid.base and laid.content.digest == mine.digest:
            base = mine.digest  # laid before it was merged, and unchanged since
        if mine.digest in (base, theirs.digest):
            return as_brought
        if base == theirs.digest:
            return as_brought._replace(file=mine)
        return self._merged(path, as_brought, base, mine, theirs)

    def _returned(
        self, path: PlacePath, target: TargetFile, kept: Kept, theirs: Brought
    ) -> TargetFile:
        """Return the user's file, which waited for its mod, with what the release changed meanwhile."""
        file = os.path.join(self.workshop.opened.home.originals_folder, kept.digest)
        mine = DiskFile(path=path, file=file, digest=kept.digest, size=kept.size)
        target = target._replace(returns=kept.aside_for)
        if kept.base in (None, theirs.digest):
            return target._replace(file=mine)
        return self._merged(path, target, kept.base, mine, theirs)

    def _merged(
        self,
        path: PlacePath,
        target: TargetFile,
        base: Digest | None,
        mine: DiskFile,
        theirs: Brought,
    ) -> TargetFile:
        side = self.rules(path)
        before = self._base_file(path, base)
        inputs = (base if before else None, mine.digest, theirs.digest)
        recipe = recipe_of("merge", *inputs, side, self._form_of(path))

        def make(file: str) -> Written:
            merged = self._merge(before, mine, theirs, side or "mine")
            write_made(file, merged.content)
            conflicts = [[each.key, each.mine, each.theirs] for each in merged.conflicts]
            return Written(json.dumps({"conflicts": conflicts}))

        made = self.workshop.make(path, recipe, make, (mine, theirs), executable=theirs.executable)
        conflicts = conflicts_in(made)
        if conflicts:
            self.conflicts.append(
                SettingsConflict(path=path, owner=target.owner, conflicts=conflicts, side=side)
            )
        keeps = bool(conflicts) and (side == "theirs")
        return target._replace(file=made, keeps_copy=keeps)

    def _merge(self, base: str | None, mine: DiskFile, theirs: Brought, prefer: Side) -> Merged:
        path = file_of(theirs.path)
        contents = []
        for file in (base, mine.file, self.workshop.file(theirs)):
            if file and os.path.getsize(file) > MOST_BYTES:
                raise PatchFault(
                    f"{shown(path)} has more than the {MOST_BYTES:,} bytes up to which settings are "
                    "merged",
                    hint="Let its card say 'replace' or 'leave' for it under settings.",
                )
            contents.append(_content(file) if file else None)
        before, now, new = contents
        form = self._form_of(path)
        return merge_settings(before, now or b"", new or b"", form, prefer, shown(path))

    def _form_of(self, path: PlacePath) -> SettingsForm | None:
        return self.workshop.opened.rules.settings_form(path)

    def _base_file(self, path: PlacePath, base: Digest | None) -> str | None:
        if base is None:
            return None
        kept = os.path.join(self.workshop.opened.home.originals_folder, base)
        if os.path.exists(kept):
            return kept
        below = self.workshop.below(path)
        try:
            return self.workshop.file(below) if below and below.digest == base else None
        except NotAsAdopted:  # changed before Rellum ever replaced it: what was there is not known
            return None


def conflicts_in(made: MadeFile) -> tuple[Conflict, ...]:
    """Return what had to be decided when a file was merged."""
    found = json.loads(made.notes)["conflicts"]
    return tuple(Conflict(key=key, mine=mine, theirs=theirs) for key, mine, theirs in found)


def refuse_unsettled(conflicts: Sequence[SettingsConflict]) -> None:
    """Raise UnsettledSettings where nobody says who wins."""
    unsettled = [each for each in conflicts if each.side is None]
    if unsettled:
        first = shown(unsettled[0].path)
        raise UnsettledSettings(
            "you and a release changed the same settings, and the pack does not say who wins",
            details=tuple(
                f"{shown(each.path)}: {conflict.key}: yours = {conflict.mine or 'gone'}, "
                f"{each.owner} = {conflict.theirs or 'gone'}"
                for each in unsettled
                for conflict in each.conflicts
            ),
            hint=f"Yours:  rellum decide settings {quoted(first)} mine\n"
            f"Theirs: rellum decide settings {quoted(first)} theirs",
        )


def side_rules(pack: PackFile, sheet: GameSheet) -> Callable[[PlacePath], Side | None]:
    """Return the pack's rules of who wins, for a path or all in a folder. Raises BadSettingsRule."""
    chosen: dict[PlacePath, Side] = {}
    for text, word, source in pack.settings:
        try:
            path = parse_place_path(text if text.startswith("@") else f"@game/{text}", sheet.places)
        except UnsafePath as error:
            raise BadSettingsRule(f"{place_of(source)}: {error.summary}") from error
        chosen[path] = "theirs" if word == "theirs" else "mine"
    return lambda path: choice_for(path, chosen)


def _content(file: str) -> bytes:
    with open(file, "rb") as stream:
        return stream.read()
