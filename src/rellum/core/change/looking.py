"""Looking: what changed in the game folder since Rellum left it, and why."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import replace

from rellum.core.change.differing import differences_of
from rellum.core.errors import UserError
from rellum.core.folder.differences import Differences
from rellum.core.folder.drift import UNSEEN, OwnFiles, find_deep_drift, find_drift
from rellum.core.folder.model import Drift, Finding
from rellum.core.notices import note
from rellum.core.pack.session import Session
from rellum.core.pack.state import State
from rellum.core.progress import Listener, silent
from rellum.core.values.content import UNKNOWN_SIZE, Content
from rellum.core.values.owners import VANILLA, Owner
from rellum.core.values.paths import PlacePath

_FEW = 5
"""So many releases are named; the others are counted."""


def with_causes(drift: Drift, opened: Session) -> Drift:
    """Sort what was found by its cause. Raises SumsFault, OSError."""
    if not drift.findings:
        return drift
    from rellum.core.folder.drift_causes import Surroundings, tell_causes
    from rellum.core.pack.game_now import identity_of

    try:
        sheet = opened.files.sheet
    except UserError:  # told when the pack was opened
        return drift
    rules, state = opened.rules, opened.state

    def vanilla(paths: Iterable[PlacePath]) -> dict[PlacePath, str]:
        entries = state.baseline(paths).items()
        return {path: entry.content.digest for path, entry in entries if entry.content}

    around = Surroundings(
        roots=opened.roots,
        sheet=sheet,
        identity=state.identity(),
        identity_now=identity_of(opened, sheet),
        is_left_over=rules.path_rules.test(rules.obsolete),
        is_carried=rules.path_rules.test(rules.carried),
        unsure=state.unsure(),
        vanilla=vanilla,
        is_laid=state.laid().__contains__,
    )
    return tell_causes(drift, around)


def drift_of(
    opened: Session,
    *,
    deep: bool = False,
    listen: Listener = silent,
    looks_at_own: bool = True,
    differences: Differences | None = None,
) -> Drift:
    """Find the drift of a pack that is open. Raises OSError.

    ``looks_at_own``: files of the player's and of the game's are hashed, too, where their time is another.
    ``differences``: what was read already.
    """
    if differences is None:
        differences = differences_of(opened)
    originals = opened.site.originals
    own = _own_files(opened)
    state, roots = opened.state, opened.roots
    drift = find_drift(differences, state, roots, own, originals.has, looks_at_own=looks_at_own)
    suspects = state.suspects()
    if deep or suspects:
        files = [each for each in _all_files(state) if deep or each[0] in suspects]
        drift = find_deep_drift(drift, files, roots, own, originals.has, listen)
    if deep:
        _remember_suspects(drift, opened)
    if any(each.kind == "changed" for each in drift.findings):
        findings = tuple(_with_members(each, opened) for each in drift.findings)
        drift = replace(drift, findings=findings)
    return drift


def with_lost_originals(drift: Drift, opened: Session, *, deep: bool = False) -> Drift:
    """Add which kept contents the store lacks; and if ``deep``, which are damaged there. Raises OSError."""
    needed, store = opened.state.needed_at(), opened.site.originals
    there = set(os.listdir(store.folder)) if needed and os.path.isdir(store.folder) else set()
    damaged = set(store.damaged()) if deep else set()
    return replace(
        drift,
        missing_originals=tuple(path for path, digest in needed if digest not in there),
        damaged_originals=tuple(path for path, digest in needed if digest in damaged),
    )


def warn_of_unfit(opened: Session) -> None:
    """Say of releases in the line-up that their cards of today rule them out for this game."""
    game = opened.state.identity()
    for release, said in opened.rules.unfit[:_FEW]:
        note(
            f"{release} {said} by its card now, and the game is {game.version}: 'rellum resolve' chooses anew"
        )
    if (more := len(opened.rules.unfit) - _FEW) > 0:
        note(f"{more:,} more releases of the line-up are not for this game: see 'rellum status'")


def _remember_suspects(drift: Drift, opened: Session) -> None:
    """Remember which files are changed although size and time are not, so that every command sees it."""
    found = {}
    for each in drift.findings:
        if each.detail == UNSEEN:
            status = os.lstat(opened.roots.absolute(each.path))
            found[each.path] = (status.st_size, status.st_mtime_ns)
    with suppress(sqlite3.Error):
        if found != opened.state.suspects():
            opened.state.set_suspects(found)


def _with_members(finding: Finding, opened: Session) -> Finding:
    """Add the changed members to a finding about a container that Rellum made."""
    laid = opened.state.laid([finding.path]).get(finding.path)
    content = laid.content if laid else None
    notes = opened.state.notes_of(content.digest) if content else ""
    if finding.kind != "changed" or not notes:
        return finding
    from rellum.core.patching.container import Rebuilt, compare_members, members_of
    from rellum.core.patching.model import PatchFault

    made = Rebuilt.from_notes(notes)
    try:
        now = members_of(opened.roots.absolute(finding.path), finding.path)
    except (PatchFault, OSError):
        return replace(finding, detail=f"{finding.detail}; it is no longer a container")
    return replace(finding, members=tuple(compare_members(made.members, now) if made else ()))


def _own_files(opened: Session) -> OwnFiles:
    """Return what the sheet and the cards call the game's or the user's own."""
    rules = opened.rules
    return OwnFiles(
        of_the_game=rules.own_files,
        of_the_user=rules.carried,
        settings=rules.settings_patterns,
        path_rules=rules.path_rules,
    )


def _all_files(state: State) -> Iterator[tuple[PlacePath, Content, Owner]]:
    """Yield every file that should be in the folder, as Rellum left it, with its owner."""
    laid = state.laid()
    for entry in state.baseline_files():
        if entry.path not in laid and entry.content and entry.content.size != UNKNOWN_SIZE:
            yield entry.path, entry.content, VANILLA
    for each in laid.values():
        if each.content is not None and not each.role:
            yield each.path, each.content, each.owner
