"""Why the folder is not as it was left: each finding of a check is sorted by what brought it about."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.model import GameSheet
from rellum.core.folder.baselines import FolderHashes, read_sums
from rellum.core.folder.content import RELLUM, VANILLA
from rellum.core.folder.identity import Identity
from rellum.core.folder.model import Cause, Drift, Finding, GameUpdate
from rellum.core.globs import any_test
from rellum.core.paths import PlacePath, Roots, is_in_game, parents

MANY = 5
"""So many vanilla files, changed together, are rather an update than somebody's doing."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """What causes are told from.

    ``identity_now`` is what the sheet's rules say of the folder now; ``is_left_over`` knows what cards of
    the line-up name as obsolete.
    """

    roots: Roots
    sheet: GameSheet
    identity: Identity
    identity_now: Identity
    is_left_over: Callable[[str], bool]


def tell_causes(drift: Drift, around: Surroundings) -> Drift:
    """Give each finding its cause, and say whether the game was updated. Raises SumsFault, OSError."""
    findings = tuple(_one_for_each_case(drift.findings))
    update, matching = _find_update(findings, around)
    shared = {place for place in around.sheet.places.values() if is_in_game(place)}

    by_the_game = any_test(around.sheet.rewrites)

    def with_cause(finding: Finding) -> Finding:
        if finding.path in matching:
            return replace(finding, cause="game-update")
        cause = _cause(finding, shared, around.is_left_over)
        if cause == "mod-changed" and around.sheet.rewrites:
            is_the_games = by_the_game(finding.path)
            who = "the game rewrites it itself" if is_the_games else "not by the game"
            return replace(finding, cause=cause, detail=f"{finding.detail}; {who}")
        return replace(finding, cause=cause)

    return replace(drift, findings=tuple(map(with_cause, findings)), update=update)


def _cause(finding: Finding, shared: set[PlacePath], is_left_over: Callable[[str], bool]) -> Cause:
    if finding.stands_as:
        return "case-changed"
    if finding.kind == "foreign":
        if is_left_over(finding.path):
            return "left-over"
        return "foreign-shared" if shared.intersection(parents(finding.path)) else "foreign"
    if finding.owner == RELLUM:
        return "marker"
    if finding.owner == VANILLA:
        return "vanilla-changed" if finding.kind == "changed" else "vanilla-missing"
    return "mod-changed" if finding.kind == "changed" else "mod-missing"


def _one_for_each_case(findings: Sequence[Finding]) -> Iterator[Finding]:
    """Put two findings into one where a file is only spelt in other capitals now."""
    foreign = {each.path.casefold(): each for each in findings if each.kind == "foreign"}
    missing = {each.path.casefold(): each for each in findings if each.kind == "missing"}
    both = foreign.keys() & missing.keys()
    for each in findings:
        folded = each.path.casefold()
        if folded not in both:
            yield each
        elif each is missing[folded]:
            now = foreign[folded].path
            detail = f"is spelt {now.rpartition('/')[2]} now"
            yield replace(each, kind="changed", stands_as=now, detail=detail)


def _find_update(
    findings: Sequence[Finding], around: Surroundings
) -> tuple[GameUpdate | None, frozenset[PlacePath]]:
    """Say whether the game was updated, and which findings come from that."""
    candidates = [each for each in findings if not each.stands_as and is_in_game(each.path)]
    vanilla = [each for each in candidates if each.owner == VANILLA]
    now = around.identity_now
    says_other = now.has_moved_on_from(around.identity)
    if not (vanilla or says_other):
        return None, frozenset()
    known, matching = _best_known(candidates, around)
    if known and len(matching) * 2 >= len(vanilla):
        return GameUpdate(version=known.version.text, files=len(matching), by="baseline"), matching
    by_guess = frozenset(each.path for each in vanilla)
    if says_other:
        places = {place for place in around.sheet.places.values() if is_in_game(place)}
        new = (each.path for each in candidates if each.kind == "foreign")
        by_guess |= {path for path in new if not places.intersection(parents(path))}
        return GameUpdate(version=now.version.text, files=len(by_guess), by="version"), by_guess
    if len(vanilla) >= MANY and _changed_together(vanilla, around.roots):
        return GameUpdate(version="", files=len(by_guess), by="many"), by_guess
    return None, frozenset()


_TOGETHER_SECONDS = 3600


def _changed_together(findings: Sequence[Finding], roots: Roots) -> bool:
    """Whether most of the files that changed were written within an hour of one another."""
    times = []
    for each in findings:
        try:
            times.append(os.lstat(roots.absolute(each.path)).st_ctime)
        except OSError:
            continue
    times.sort()
    half = len(findings) // 2
    spans = (last - first for first, last in zip(times, times[half:], strict=False))
    return any(span < _TOGETHER_SECONDS for span in spans)


def _best_known(
    findings: Sequence[Finding], around: Surroundings
) -> tuple[KnownBaseline | None, frozenset[PlacePath]]:
    """Return the other version's baseline that explains the most findings, and these."""
    hashes = FolderHashes(around.roots)
    best: tuple[KnownBaseline | None, frozenset[PlacePath]] = (None, frozenset())
    there = [(each.path, 0) for each in findings if each.kind != "missing"]
    for known in around.sheet.baselines:
        if known.version == around.identity.version and known.edition == around.identity.edition:
            continue
        sums = read_sums(known)
        digests = hashes.of(known.form, [each for each in there if each[0] in sums])
        explained = frozenset(
            each.path
            for each in findings
            if (each.kind == "missing" and each.owner == VANILLA and each.path not in sums)
            or (each.path in digests and digests[each.path] == sums[each.path])
        )
        # That files are missing proves nothing by itself.
        if len(explained) > len(best[1]) and any(path in digests for path in explained):
            best = (known, explained)
    return best
