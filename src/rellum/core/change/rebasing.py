"""After the game's own update: what its files are now becomes the baseline of the new version.

By itself that touches nothing in the game folder: only what is known of it changes. The line-up is
planned against the new baseline, and both are one change.
"""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass, replace

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.model import GameSheet
from rellum.core.catalog.toml_lines import place_of
from rellum.core.change.looking import drift_of, with_causes
from rellum.core.change.plan import Plan
from rellum.core.change.supplies import is_content
from rellum.core.errors import UserError
from rellum.core.folder.baselines import FolderHashes, read_sums
from rellum.core.folder.identity import Identity
from rellum.core.folder.model import Drift, Finding, GameUpdate
from rellum.core.hashing import Digest, hash_file, sha256_file
from rellum.core.pack.game_now import identity_of
from rellum.core.pack.new_state import BaselineRow
from rellum.core.pack.session import Session
from rellum.core.pack.standing import content_at
from rellum.core.pack.state import new_id
from rellum.core.pack.state_change import BaselineChange, Before, StateChange
from rellum.core.values.content import PLAIN_MODE, SHA256, UNKNOWN_SIZE, Content, Laid
from rellum.core.values.owners import RELLUM, VANILLA
from rellum.core.values.paths import GAME, PlacePath, is_in_game, is_text, parents

ACTION = "game update"


class NoUpdate(UserError):
    """Files that differ are no update of the game: its version is the same, and its files are known."""

    code = "no-update"


class HalfUpdated(UserError):
    """The game is half way between two versions: nothing is moved to it."""

    code = "half-updated"


@dataclass(frozen=True, slots=True, kw_only=True)
class Rebase:
    """What an update of the game makes of the baseline.

    before, now: what the game was when it was adopted, and is
    known: the known baseline of the new version, None where nobody knows its files
    changed, new, gone: vanilla files
    overwritten: files of mods that the update put its own over
    kept: files of mods that the update left, so that what lies under them is of the old version
    lacking: those of ``kept`` that differ in the new version
    beside: files that counted as vanilla, and are none of the new version's as it is known
    unsure: new files in shared places, which may or may not be the game's
    """

    before: Identity
    now: Identity
    known: KnownBaseline | None
    changed: tuple[PlacePath, ...]
    new: tuple[PlacePath, ...]
    gone: tuple[PlacePath, ...]
    overwritten: tuple[Laid, ...]
    kept: tuple[PlacePath, ...]
    lacking: tuple[PlacePath, ...]
    beside: tuple[PlacePath, ...]
    unsure: tuple[PlacePath, ...]
    change: StateChange


def find_rebase(opened: Session, sheet: GameSheet, *, forced: bool = False) -> Rebase | None:
    """Return what the game's update makes of the baseline; None where the game is what it was.

    ``forced``: files that changed are taken for an update though the version is the same. Raises
    HalfUpdated, SumsFault, CannotLay, OSError.
    """
    before, now = opened.state.identity(), identity_of(opened, sheet, anything=forced)
    if not forced and not now.has_moved_on_from(before):
        return None
    drift = drift_of(opened)
    if not drift.findings:  # the update kept sizes and times: every file must be read
        drift = drift_of(opened, deep=True)
    drift = with_causes(drift, opened)
    if drift.update and drift.update.waiting:
        raise HalfUpdated(
            half_words(drift.update),
            hint="Let the store finish the update, then try again; or put the old files back with "
            "'rellum restore --damaged --from COPY'.",
        )
    if forced and not drift.update and not now.has_moved_on_from(before):
        if not any(each.owner == VANILLA for each in drift.findings):
            return None
        _refuse_damage(sheet, before)
    if drift.update and drift.update.by == "baseline" and drift.update.mark_is_same:
        now = _as_known(sheet, drift.update, now)
    return _Finder(opened, sheet, before, now, drift).find()


def _refuse_damage(sheet: GameSheet, before: Identity) -> None:
    """Refuse to take wrong files for an update where the files of the version are known. Raises NoUpdate."""
    asked = (before.version, before.edition, before.expansions)
    for known in sheet.baselines:
        if (known.version, known.edition, known.expansions) == asked:
            raise NoUpdate(
                f"the game is still {before.version}, whose files are known: what differs is no update",
                details=(f"known by {place_of(known.source)}",),
                hint="See 'rellum check'; 'rellum restore --damaged' repairs vanilla files.",
            )


def half_words(update: GameUpdate) -> str:
    """Say how far an update of the game has come."""
    total = update.files + update.waiting
    return f"{update.files:,} of {total:,} files are of {update.version}, the others not yet"


def _as_known(sheet: GameSheet, update: GameUpdate, now: Identity) -> Identity:
    """Return what the game is by a known baseline, where its own mark does not tell."""
    known = next(each for each in sheet.baselines if each.version.text == update.version)
    evidence = f"version {known.version}: its files match the known list ({place_of(known.source)})"
    return replace(
        now,
        version=known.version,
        edition=known.edition or now.edition,
        expansions=known.expansions or now.expansions,
        evidence=(evidence,),
    )


def with_rebase(plan: Plan, rebase: Rebase) -> Plan:
    """Return a plan that notes the new baseline, too: one change, which one rewind undoes."""
    planned = {each.path for each in (*plan.operations, *plan.noted)} | set(plan.forgotten)
    dropped = (row.path for row in rebase.overwritten if row.path not in planned)
    change = rebase.change
    return plan._replace(
        forgotten=(*plan.forgotten, *dropped),
        spare_folders=(*plan.spare_folders, *change.gone_folders),
        baseline=change.baseline,
        identity=change.identity,
        unsure=change.unsure,
        stood=change.before.files,
    )


class _Finder:
    def __init__(
        self, opened: Session, sheet: GameSheet, before: Identity, now: Identity, drift: Drift
    ) -> None:
        self.drift = drift
        self.opened = opened
        self.sheet = sheet
        self.before = before
        self.now = now
        self.known = next((each for each in sheet.baselines if self._is_of_now(each)), None)
        self.sums = read_sums(self.known) if self.known else None
        self.hashes = FolderHashes(opened.roots)

    def _is_of_now(self, known: KnownBaseline) -> bool:
        return (known.version, known.edition, known.expansions) == (
            self.now.version,
            self.now.edition,
            self.now.expansions,
        )

    def find(self) -> Rebase:
        opened = self.opened
        findings = [
            each
            for each in self.drift.findings
            if is_in_game(each.path) and each.owner != RELLUM and not each.stands_as
        ]
        below = {
            p for f in findings if f.kind == "missing" for p in opened.state.baseline_below(f.path)
        }
        vanilla = opened.state.baseline({each.path for each in findings} | below)
        laid = opened.state.laid(vanilla)
        missing = {
            each.path for each in findings if each.kind == "missing"
        } & vanilla.keys() | below
        is_file = {p for p in missing if vanilla[p].kind == "file" and not self._is_known(p)}
        # A folder is gone if nothing that belongs to the new version should be in it.
        stays = {path for path in missing - is_file if vanilla[path].kind == "file"}
        gone = missing - stays - {folder for path in stays for folder in parents(path)}
        stands: dict[PlacePath, Content] = {}
        for each in findings:
            if each.kind != "missing" and self._is_the_games(each, each.path in vanilla):
                content, _ = content_at(opened.roots, each.path, None)
                if content:
                    stands[each.path] = content
        overwritten = [laid[path] for path in sorted({*stands, *gone} & laid.keys())]
        kept = [
            row
            for row in opened.state.laid().values()
            if is_in_game(row.path)
            and row.owner != RELLUM
            and row.path not in stands
            and row.path not in gone
        ]
        under = opened.state.baseline([row.path for row in kept])
        kept_over = sorted(row.path for row in kept if row.path in under)
        changes: list[BaselineChange] = [(path, None) for path in sorted(gone)]
        changes += [
            (folder, self._folder_row(folder)) for folder in sorted(self._new_folders(stands))
        ]
        changes += [(path, _file_row(path, content)) for path, content in sorted(stands.items())]
        changes += self._rows_by_hash({*stands, *gone}, kept)
        beside = self._beside(gone)
        changes += [(path, None) for path in beside]
        left = {path: vanilla[path].content for path in {*stands, *gone} if path in vanilla}
        left |= {row.path: row.content for row in overwritten}
        return Rebase(
            before=self.before,
            now=self.now,
            known=self.known,
            changed=tuple(sorted(stands.keys() & vanilla.keys())),
            new=tuple(sorted(stands.keys() - vanilla.keys())),
            gone=tuple(sorted(is_file)),
            overwritten=tuple(overwritten),
            kept=tuple(kept_over),
            lacking=tuple(self._lacking(kept)),
            beside=beside,
            unsure=self._unsure(findings),
            change=StateChange(
                id=new_id(),
                action=ACTION,
                laid=(),
                no_longer_laid=tuple(row.path for row in overwritten),
                kept=(),
                new_folders=(),
                gone_folders=tuple(sorted(gone - is_file)),
                before=Before(
                    files=tuple((path, left.get(path)) for path in sorted({*stands, *is_file}))
                ),
                baseline=tuple(changes),
                identity=identity_text(self.now),
                unsure=self._unsure(findings),
            ),
        )

    def _is_known(self, path: PlacePath) -> bool:
        """Whether the new version is known to have a file."""
        return self.sums is not None and path in self.sums

    def _is_the_games(self, finding: Finding, was_vanilla: bool) -> bool:
        """Whether what stands at a path is the new version's own file."""
        path = finding.path
        if not stat.S_ISREG(os.lstat(self.opened.roots.absolute(path)).st_mode):
            return False
        if self.sums is not None and self.known is not None:
            here = self.hashes.of(self.known.form, [(path, 0)])
            return path in self.sums and here.get(path) == self.sums[path]
        if finding.kind == "foreign":
            places = {place for place in self.sheet.places.values() if is_in_game(place)}
            return finding.cause != "left-over" and not places.intersection(parents(path))
        return was_vanilla

    def _rows_by_hash(
        self, settled: Container[PlacePath], kept: Sequence[Laid]
    ) -> list[BaselineChange]:
        """Return rows of known files that are not there to be seen: under mods, damaged, or missing."""
        if self.sums is None or self.known is None:
            return []
        unseen = {each.path for each in self.drift.findings} | {row.path for row in kept}
        before = self.opened.state.baseline(self.sums)
        unseen |= self.sums.keys() - before.keys()  # new in this version, and not there
        paths = sorted(path for path in unseen if path in self.sums and path not in settled)
        rows: list[BaselineChange] = []
        for path in paths:
            entry, digest = before.get(path), self.sums[path]
            if entry and entry.content and self._has_hash(entry.content, path, digest):
                continue
            rows.append((path, row_by_hash(path, self.known.form, digest)))
        return rows

    def _has_hash(self, content: Content, path: PlacePath, digest: str) -> bool:
        """Whether a content of the version before is the new version's, too, as far as can be told."""
        assert self.known is not None
        if self.known.form == "blake3":
            return content.digest == digest
        row = self.opened.state.laid([path]).get(path)
        original = self.opened.site.originals.path_of(content.digest)
        file = original if row else self.opened.roots.absolute(path)
        expected = content._replace(digest=Digest(SHA256 + digest), size=UNKNOWN_SIZE)
        return is_content(file, expected) and hash_file(file) == content.digest

    def _beside(self, gone: Container[PlacePath]) -> tuple[PlacePath, ...]:
        """Return vanilla files of before that are still there, and are none of the new version's."""
        if self.sums is None:
            return ()
        before = self.opened.state.baseline_below(PlacePath(GAME))
        return tuple(
            path
            for path, entry in sorted(before.items())
            if entry.kind == "file" and path not in self.sums and path not in gone
        )

    def _unsure(self, findings: Sequence[Finding]) -> tuple[PlacePath, ...]:
        """Return new files in places that mods share, where nobody knows what the new version has."""
        if self.sums is not None:
            return ()
        foreign = (each for each in findings if each.kind == "foreign")
        return tuple(
            sorted(
                each.path
                for each in foreign
                if each.cause not in ("left-over", "game-update") and is_text(each.path)
            )
        )

    def _lacking(self, kept: list[Laid]) -> Iterator[PlacePath]:
        """Yield the files under mods that differ in the new version."""
        if self.sums is None or self.known is None:
            return
        store = self.opened.site.originals
        for row in kept:
            if row.path not in self.sums:
                continue
            digest: str | None = row.under.digest if row.under else None
            if self.known.form == "sha256" and digest and store.has(Digest(digest)):
                digest = sha256_file(store.path_of(Digest(digest)))
            if digest != self.sums[row.path]:
                yield row.path

    def _new_folders(self, stands: dict[PlacePath, Content]) -> set[PlacePath]:
        folders = {folder for path in stands for folder in parents(path)} - {PlacePath(GAME)}
        known = self.opened.state.baseline(folders).keys() | self.opened.state.own_folders()
        return folders - known

    def _folder_row(self, folder: PlacePath) -> tuple[object, ...]:
        status = os.lstat(self.opened.roots.absolute(folder))
        return (folder, "folder", 0, "", stat.S_IMODE(status.st_mode), status.st_mtime_ns, "")


def row_by_hash(path: PlacePath, form: str, digest: str) -> BaselineRow:
    """Return the row of a vanilla file that is known by its hash alone."""
    known = digest if form == "blake3" else SHA256 + digest
    return (path, "file", UNKNOWN_SIZE, known, PLAIN_MODE, 0, "")


def _file_row(path: PlacePath, content: Content) -> tuple[object, ...]:
    return (path, "file", content.size, content.digest, content.mode, content.mtime_ns, "")


def identity_text(identity: Identity) -> str:
    return json.dumps(
        [
            identity.sheet,
            identity.name,
            identity.version.text,
            identity.edition,
            json.dumps(identity.expansions),
            json.dumps(identity.evidence),
        ]
    )
