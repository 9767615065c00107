"""Why the folder is not as it was left: each finding of a check is sorted by what brought it about."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.model import GameSheet
from rellum.core.folder.baselines import FolderHashes, read_sums
from rellum.core.folder.drift import UNSEEN
from rellum.core.folder.identity import Identity
from rellum.core.folder.model import Cause, Drift, Finding, GameUpdate
from rellum.core.values.owners import RELLUM, VANILLA
from rellum.core.values.paths import PlacePath, Roots, is_in_game, parents


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """What causes are found from.

    identity_now: what the sheet's rules say of the folder now
    is_left_over: knows what cards of the line-up name as obsolete
    is_carried: knows what is the user's own, which no card can call a left-over
    unsure: new files of an update that may be the game's own
    vanilla: the BLAKE3 hash of each vanilla file among some, as it was when the game was last known
    is_laid: whether a mod lies over a path
    """

    roots: Roots
    sheet: GameSheet
    identity: Identity
    identity_now: Identity
    is_left_over: Callable[[str], bool]
    is_carried: Callable[[str], bool]
    unsure: Container[PlacePath]
    vanilla: Callable[[Iterable[PlacePath]], Mapping[PlacePath, str]]
    is_laid: Callable[[PlacePath], bool]


def tell_causes(drift: Drift, around: Surroundings) -> Drift:
    """Give each finding its cause, and say whether the game was updated. Raises SumsFault, OSError."""
    findings = tuple(_one_for_each_case(drift.findings))
    update, matching = find_update(findings, around)
    by_update: Cause = "half-updated" if update and update.waiting else "game-update"
    shared = {place for place in around.sheet.places.values() if is_in_game(place)}

    by_the_game = around.sheet.path_rules.test(around.sheet.rewrites)

    def with_cause(finding: Finding) -> Finding:
        if finding.path in matching:
            return replace(finding, cause=by_update)
        cause = _cause(finding, shared, around)
        if cause == "mod-changed" and around.sheet.rewrites:
            is_the_games = by_the_game(finding.path)
            who = "the game rewrites it" if is_the_games else "not by the game"
            return replace(finding, cause=cause, detail=f"{finding.detail}; {who}")
        return replace(finding, cause=cause)

    return replace(drift, findings=tuple(map(with_cause, findings)), update=update)


def _cause(finding: Finding, shared: set[PlacePath], around: Surroundings) -> Cause:
    if finding.stands_as:
        return "case-changed"
    if finding.kind == "foreign":
        if around.is_left_over(finding.path) and not around.is_carried(finding.path):
            return "left-over"
        if finding.path in around.unsure:
            return "unsure"
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


def find_update(
    findings: Sequence[Finding], around: Surroundings
) -> tuple[GameUpdate | None, frozenset[PlacePath]]:
    """Say whether the game was updated, and which findings come from that. Raises SumsFault, OSError.

    A known baseline of another version must explain what is found. It is an update where nothing of the
    version before is left; half an update where something is, and the version's mark or several files
    are of the other version. Without a known baseline only the mark tells. All else is damage.
    """
    candidates = [
        each
        for each in findings
        if not each.stands_as and is_in_game(each.path) and each.detail != UNSEEN
    ]
    vanilla = [each for each in candidates if each.owner == VANILLA]
    now = around.identity_now
    says_other = now.has_moved_on_from(around.identity)
    if not (vanilla or says_other):
        return None, frozenset()
    known, matching = best_known(candidates, around)
    if known:
        waiting = _still_as_before(known, candidates, around)
        if not waiting or says_other or len(matching) > 1:
            update = GameUpdate(
                version=known.version.text,
                files=len(matching),
                by="baseline",
                waiting=len(waiting),
                mark_is_same=not says_other,
                told=now.told_beside(around.identity) if says_other else known.version.text,
            )
            return update, matching
    if says_other:
        by_guess = frozenset(each.path for each in vanilla)
        of_mods = [each.path for each in candidates if each.kind == "changed"]
        by_guess |= around.vanilla(of_mods).keys()  # the store may have written over a mod's file
        places = {place for place in around.sheet.places.values() if is_in_game(place)}
        new = (each.path for each in candidates if each.kind == "foreign")
        by_guess |= {path for path in new if not places.intersection(parents(path))}
        update = GameUpdate(
            version=now.version.text,
            files=len(by_guess),
            by="version",
            told=now.told_beside(around.identity),
        )
        return update, by_guess
    return None, frozenset()


def _still_as_before(
    known: KnownBaseline, findings: Sequence[Finding], around: Surroundings
) -> list[PlacePath]:
    """Return vanilla files that are unchanged but differ in another version. Raises SumsFault.

    Files under mods tell nothing: the game's store may have passed them over.
    """
    found = {each.path for each in findings}
    sums = read_sums(known)
    unchanged = [path for path in sums if path not in found and not around.is_laid(path)]
    before: Mapping[PlacePath, str] = around.vanilla(unchanged)
    if known.form == "sha256":
        before = _sha256_before(list(before), known, around)
    return [path for path, digest in before.items() if digest != sums[path]]


def _sha256_before(
    paths: Sequence[PlacePath], known: KnownBaseline, around: Surroundings
) -> dict[PlacePath, str]:
    """Return the SHA-256 of unchanged files: by the known baseline of their version, else by reading them."""
    identity = around.identity
    for other in around.sheet.baselines:
        is_of_now = (other.version, other.edition, other.expansions) == (
            identity.version,
            identity.edition,
            identity.expansions,
        )
        if is_of_now and other.form == known.form:
            sums = read_sums(other)
            return {path: sums[path] for path in paths if path in sums}
    return FolderHashes(around.roots).of("sha256", [(path, 0) for path in paths])


def best_known(
    findings: Sequence[Finding], around: Surroundings
) -> tuple[KnownBaseline | None, frozenset[PlacePath]]:
    """Return the other version's baseline that explains the most findings, and these."""
    hashes = FolderHashes(around.roots)
    best: tuple[KnownBaseline | None, frozenset[PlacePath]] = (None, frozenset())
    there = [(each.path, 0) for each in findings if each.kind != "missing"]
    identity = around.identity
    for known in around.sheet.baselines:
        if (known.version, known.edition, known.expansions) == (
            identity.version,
            identity.edition,
            identity.expansions,
        ):
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
