"""The line-up of a pack: the one that stands, or the one that is solved for now; and the refusal in words."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from rellum.core.catalog.load import refuse_faulty
from rellum.core.catalog.model import Catalog, Release
from rellum.core.catalog.patches import release_chain
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.catalog.toml_lines import place_of
from rellum.core.composing.pack_problem import (
    PackProblem,
    locked_releases,
    make_problem,
    problem_of,
)
from rellum.core.errors import NoAnswer
from rellum.core.folder.identity import Identity
from rellum.core.pack.grafts import locked_graft
from rellum.core.pack.lock_file import LockedRelease, LockFile, NoLineUp
from rellum.core.pack.pack_file import PackFile, asked_hash
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.solving.problem import Chosen, LineUp, Problem, Statement
from rellum.core.values.ids import ModId
from rellum.core.words import count_words

if TYPE_CHECKING:
    from rellum.core.solving.refusal import Refusal
    from rellum.core.solving.remedies import Remedy


_FEW_MODS = 8
LINE = 94
"""A statement and its place that take more columns than this are put on two lines."""


class NoLineUpExists(NoAnswer):
    """The wants cannot be met together."""

    code = "no-line-up-exists"

    def __init__(
        self,
        refusal: Refusal,
        statements: Sequence[Statement],
        remedies: Sequence[Remedy],
        want_count: int,
        is_cut: bool = False,
    ) -> None:
        super().__init__(
            _summary(refusal, len(statements)),
            details=tuple(_details(refusal, statements, want_count)),
            hint=_hint(remedies, is_cut),
        )
        self.refusal = refusal
        self.statements = tuple(statements)
        self.remedies = tuple(remedies)

    def facts(self) -> dict[str, Any]:
        """Return the reason and the remedies, for programs."""
        return {
            "statements": [
                {"text": each.text, "place": place_of(each.source) if each.source else None}
                for each in self.statements
            ],
            "wants": [want.mod for want in self.refusal.wants],
            "is_minimal": self.refusal.reason.is_minimal,
            "is_shortest": self.refusal.is_shortest,
            "impossible_alone": list(self.refusal.alone),
            "other_reason_count": len(self.refusal.others) if self.refusal.is_complete else None,
            "remedies": [
                {"kind": each.kind, "text": each.text, "command": each.command or None}
                for each in self.remedies
            ],
        }


def with_place(statement: Statement) -> str:
    """Return a statement with the file and line where it stands; on a second line if it is long."""
    if statement.source is None:
        return statement.text
    place = f"({place_of(statement.source)})"
    gap = "  " if len(statement.text) + len(place) < LINE else "\n    "
    return f"{statement.text}{gap}{place}"


def _summary(refusal: Refusal, count: int) -> str:
    more = ""
    if not refusal.reason.is_minimal:
        more = ", though some of them may not be needed for that"
    elif refusal.is_complete and refusal.others:
        more = f"; {count_words(len(refusal.others), 'more reason', 'more reasons')} besides"
    elif not refusal.is_complete and refusal.is_shortest_known and count > 1:
        more = ", the shortest reason that was found"
    what = "this cannot be met" if count == 1 else f"these {count} cannot all be met"
    return f"no line-up exists: {what}{more}"


def _details(refusal: Refusal, statements: Sequence[Statement], want_count: int) -> Iterator[str]:
    """Yield the wants that are impossible by themselves, then the reason; of a long one what it is about."""
    from rellum.core.solving.reasons import READABLE
    from rellum.core.solving.sentences import mods_of

    alone = refusal.alone
    if len(alone) > 1 and len(alone) == want_count:
        yield f"none of the {want_count} wants can be had, each by itself"
    elif alone and want_count > 1:
        yield f"{_and(_few(alone))} cannot be had, even without the other wants"
    if len(statements) <= READABLE:
        yield from (with_place(each) for each in statements)
        return
    wants = _few([want.mod for want in refusal.wants])
    yield f"the wants in it: {_and(wants)}"
    about = sorted({mod for each in refusal.reason.causes for mod in mods_of(each)})
    yield f"it is about {count_words(len(about), 'mod', 'mods')}: {_and(_few(about))}"
    yield f"all {len(statements)} statements: the same command with --json"


def _and(names: Sequence[str]) -> str:
    return f"{', '.join(names[:-1])} and {names[-1]}" if names[1:] else names[0]


def _few(mods: Sequence[str]) -> list[str]:
    """Return some of many mods, and how many more there are."""
    if len(mods) <= _FEW_MODS:
        return [*mods]
    return [*mods[:_FEW_MODS], f"{len(mods) - _FEW_MODS} more"]


def _hint(remedies: Sequence[Remedy], is_cut: bool) -> str:
    if not remedies and is_cut:
        return "Nothing was found yet that would help: 'rellum resolve --longer' looks further."
    if not remedies:
        return (
            "No change of a few wants was found that would help: drop those named, and see what "
            "stands against the others."
        )
    width = max(len(each.text) for each in remedies)
    lines = [
        f"  {each.text.ljust(width)}  {each.command}".rstrip() if each.command else f"  {each.text}"
        for each in remedies
    ]
    which = "this helps" if len(remedies) == 1 else "any one of these helps, cheapest first"
    return f"{which} (tried):\n" + "\n".join(lines)


def line_up_of(opened: Session, shelf: Shelf, fresh_mods: Sequence[str]) -> LockFile:
    """Return the line-up that a pack asks for now; write nothing. Raises NoLineUpExists."""
    asked = problem_of(opened, fresh=tuple(map(ModId, fresh_mods)))
    return _as_lock(asked, solve_or_raise(asked.problem), shelf)


class Explaining(NamedTuple):
    """How a refusal is explained: ``patience`` multiplies the work that is done for reason and remedies.

    ``begins`` is called as soon as it is proven that there is no line-up.
    """

    patience: int = 1
    begins: Callable[[], None] = lambda: None


AT_ONCE: Final = Explaining()


def solve_or_raise(problem: Problem, explaining: Explaining = AT_ONCE) -> LineUp:
    """Return the line-up. Raises NoLineUpExists with the reason and what would help."""
    from rellum.core.solving.search import NotFound
    from rellum.core.solving.solve import solve

    searcher, found = solve(problem)
    if isinstance(found, NotFound):
        refuse_faulty(problem.catalog, _within_reach(problem))
        explaining.begins()
        from rellum.core.solving.prover import Work
        from rellum.core.solving.refusal import LEAST, explain
        from rellum.core.solving.remedies import find_remedies
        from rellum.core.solving.sentences import tell

        refusal = explain(searcher, found, explaining.patience)
        statements = tell(refusal.reason.causes)
        work = Work(explaining.patience * max(4 * found.steps, LEAST))
        remedies = find_remedies(searcher, problem, refusal, work)
        is_cut = work.left < 0
        raise NoLineUpExists(refusal, statements, remedies, len(problem.wants), is_cut)
    return found


def _within_reach(problem: Problem) -> set[ModId]:
    """Return the mods that may have a part in the answer: wanted, or needed by one that may."""
    catalog = problem.catalog
    reached: set[ModId] = set()
    waiting = [want.mod for want in problem.wants]
    while waiting:
        mod_id = waiting.pop()
        if mod_id in reached:
            continue
        reached.add(mod_id)
        waiting += catalog.offered.get(mod_id, ())
        mod = catalog.mods.get(mod_id)
        for release in mod.releases if mod and catalog.faulty else ():
            waiting += [each.mod for need in release.needs for each in need.any_of]
    return reached


def _as_lock(asked: PackProblem, line_up: LineUp, shelf: Shelf) -> LockFile:
    """Put a line-up into the form of the lock."""
    return LockFile(
        asked=asked_hash(asked.pack),
        sheet=asked.identity.sheet,
        game_version=line_up.game.version,
        edition=asked.identity.edition,
        expansions=asked.identity.expansions,
        releases=tuple(_locked(each, asked.catalog, shelf) for each in line_up.chosen),
        grafts=tuple(map(locked_graft, asked.pack.grafts)),
    )


def _locked(chosen: Chosen, catalog: Catalog, shelf: Shelf) -> LockedRelease:
    release = chosen.release
    chain = release_chain(release, catalog.mods[release.mod])
    return LockedRelease(
        mod=release.mod,
        version=release.version.text,
        build=release.build,
        because=chosen.because,
        options=chosen.options,
        trial=str(chosen.trial) if chosen.trial else "",
        files=tuple(_with_blake3(file, each, shelf) for each in chain for file in each.all_files),
        source=release.source,
        check_by_hand=release.check_by_hand,
    )


def _with_blake3(file: ReleaseFile, release: Release, shelf: Shelf) -> ReleaseFile:
    if file.blake3:
        return file
    entry = shelf.find(file, release)
    return replace(file, blake3=entry.digest) if entry else file


def current_line_up(
    opened: Session, pack: PackFile, catalog: Catalog, identity: Identity, shelf: Shelf
) -> tuple[LockFile, bool]:
    """Return the line-up that fits rellum.toml now, and whether it had to be solved again.

    The first one is made now. Raises NoLineUp where it is for another game version, NoLineUpExists.
    """
    lock = opened.files.lock_if_any
    if lock is not None and lock.sheet != identity.sheet:
        raise NoLineUp(
            f"the line-up is for the game {lock.sheet}, and the pack keeps {identity.sheet}",
            hint="Make a new one with 'rellum resolve --fresh'.",
        )
    if lock is None and not pack.wants and not pack.grafts:
        raise NoLineUp(
            "there is no line-up yet, and the pack wants no mods",
            hint="Add some with 'rellum want MOD'; 'rellum want --shelf' adds all that is on the shelf.",
        )
    made_anew = lock is None or not _still_fits(lock, pack, catalog, identity)
    if made_anew or lock is None:
        problem = make_problem(opened.home, pack, catalog, identity, lock)
        asked = PackProblem(
            home=opened.home,
            pack=pack,
            catalog=catalog,
            identity=identity,
            lock=lock,
            problem=problem,
        )
        lock = _as_lock(asked, solve_or_raise(problem), shelf)
    if lock.game_version != identity.version:
        raise NoLineUp(
            f"the line-up is for game {lock.game_version}, and the folder holds {identity.version}",
            hint="Bring the game to that version and adopt it, or narrow the range with 'rellum decide "
            "game-range RANGE'.",
        )
    return lock, made_anew


def _still_fits(lock: LockFile, pack: PackFile, catalog: Catalog, identity: Identity) -> bool:
    """Whether a line-up is what the pack asks for, for this game, with releases that there are."""
    game = (lock.edition, lock.expansions) == (identity.edition, identity.expansions)
    version = pack.game_range is not None or lock.game_version == identity.version
    found = locked_releases(lock, catalog)
    are_finished = len(found) == len(lock.releases) and not any(
        r.open_lines for r in found.values()
    )
    return game and version and lock.asked == asked_hash(pack) and are_finished
