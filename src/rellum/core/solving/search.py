"""The search for a line-up: complete, and the first it finds is the best in the order of aims.

The aims, each before the next:

1. all wants and holds;
2. releases already in the lock stay, where they are needed at all;
3. optional wants, in the pack's order;
4. the game version that is preferred, where the pack allows several;
5. the newest release of each want, in the pack's order;
6. the newest of what those need, in the order in which they come in; of several that would do, one
   that is in already, else the first that the card names.

What nobody wants or needs does not come in. Decisions are taken in exactly this order, the best
first, and what is learned from a conflict follows from the clauses alone; so the first line-up that
is reached without a conflict is the best one.

What the pack and the game fix is supposed by decisions before all others, not written into the
clauses: the same searcher then answers "what if", and what it learned stays true.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from rellum.core.solving import causes
from rellum.core.solving.card_clauses import Rules, is_locked
from rellum.core.solving.causes import Cause
from rellum.core.solving.engine import Clause, Engine, leaves_of
from rellum.core.solving.guide import Guide
from rellum.core.solving.load_order import find_circle
from rellum.core.solving.problem import Hold, Locked, Problem, Want
from rellum.core.solving.prover import Work
from rellum.core.solving.release_clauses import ReleaseClauses
from rellum.core.solving.trial_book import TrialBook
from rellum.core.solving.variables import (
    ABSENT,
    OFF,
    ON,
    THERE,
    Entry,
    GroupVariable,
    ModVariable,
    Surroundings,
)
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Key, Version


@dataclass(frozen=True, slots=True)
class Supposition:
    """A variable's value lies in a mask, because of something that the pack or the game says."""

    number: int
    mask: int
    cause: Cause


@dataclass(frozen=True, slots=True)
class Found:
    """A line-up as values: by variable, in the order in which they came in; and the game's version."""

    values: Mapping[int, int]
    game: Version


@dataclass(frozen=True, slots=True)
class NotFound:
    """No line-up: these clauses, each with its cause, cannot all be met. Not yet the fewest.

    ``supposed`` are those of the pack and the game, all of them; ``leaves`` those of the search's proof.
    ``steps`` is what the proof took, in looks at clauses.
    """

    supposed: tuple[Clause, ...]
    leaves: tuple[Clause, ...] = ()
    steps: int = 0

    @property
    def clauses(self) -> tuple[Clause, ...]:
        """All of them."""
        return (*self.supposed, *self.leaves)


_HARD = 120
"""After so many conflicts, a search takes a guide."""
_UNBOUNDED = 1 << 62
_CLAUSE = 5
"""What it costs to make a clause, in looks at one."""


class Searcher:
    """Answers for one catalog, for any wants, holds and game that its first problem could bring in.

    ``ignored`` are the names of causes that do not count; of ``kept`` mods no other release is
    looked at.
    """

    def __init__(
        self,
        problem: Problem,
        ignored: frozenset[tuple[object, ...]] = frozenset(),
        kept: Mapping[ModId, Locked] | None = None,
    ) -> None:
        self.problem = problem
        self.ignored = ignored
        self.keeps = bool(kept)
        self.engine = Engine()
        games = {*problem.games, *problem.catalog.sheet.known_versions}
        games.update(trial.game for trial in problem.trials)
        editions = {rule.answer for rule in problem.catalog.sheet.edition_rules}
        editions |= {problem.edition} if problem.edition else set()
        self.surroundings = Surroundings(self.engine, tuple(games), sorted(editions))
        self.rules = Rules(
            self.engine,
            problem.catalog,
            self.surroundings,
            TrialBook(problem.trials, problem.trust),
            asked=_asks_for_prereleases(problem),
            held=frozenset((hold.mod, hold.version) for hold in problem.holds),
            ignored=ignored,
            kept=kept,
        )
        self.rules.bring_in(
            [*(want.mod for want in problem.wants), *(hold.mod for hold in problem.holds)]
        )
        self.taking = ReleaseClauses(self.rules)
        self._last: list[Supposition] = []
        self.work: Work | None = None
        """What searches may cost together; None: as much as it takes."""

    @property
    def clauses(self) -> int:
        """How many clauses there are, those that were learned left out."""
        return len(self.engine.given)

    def search(self, problem: Problem, extra: Iterable[Supposition] = ()) -> Found | NotFound:
        """Find the best line-up for a problem over the same cards, with some more supposed.

        Raises OutOfWork where there is a limit to the work, and it does not suffice.
        """
        for mod in (want.mod for want in problem.wants):
            if mod not in self.rules.mods:
                return NotFound(tuple(Clause([], cause) for cause in self._no_card(mod)))
        suppositions = [*self.suppose(problem), *extra]
        common = self._shared_with_last(suppositions)
        if not common:
            before, steps = len(self.engine.given), self.engine.steps
            self._make_clauses(suppositions)
            made = (len(self.engine.given) - before) * _CLAUSE
            self.spend(made + self.engine.steps - steps + len(self.rules.mods))
        self.engine.go_back(common)
        self._last = suppositions
        return _Run(self, problem, suppositions).run()

    def spend(self, amount: int) -> None:
        """Count work that was done. Raises OutOfWork."""
        if self.work is not None:
            self.work.spend(amount)

    def _shared_with_last(self, suppositions: list[Supposition]) -> int:
        """Return how many suppositions of the last search stand decided and hold here, too.

        None of them do where something about the game differs: other releases may have to be looked
        at then.
        """
        around = self.surroundings
        fixed = {around.game, around.edition, *around.expansions.values()}
        common = 0
        for one, two in zip(self._last, suppositions, strict=False):
            if (one.number, one.mask) != (two.number, two.mask):
                return 0 if two.number in fixed else common
            common += 1
        return min(common, self.engine.level)

    def _make_clauses(self, suppositions: list[Supposition]) -> None:
        """Add the clauses of all releases that can be chosen where the game is as supposed."""
        engine = self.engine
        engine.go_back(0)
        around = {self.surroundings.game, self.surroundings.edition}
        around.update(self.surroundings.expansions.values())
        for each in suppositions:
            if each.number in around and engine.domains[each.number] & each.mask:
                engine.decide(each.number, each.mask)
        if engine.propagate() is None:
            self.taking.add_all()
        engine.go_back(0)

    def _no_card(self, mod: ModId) -> Iterator[Cause]:
        yield from (causes.Wanted(want) for want in self.problem.wants if want.mod == mod)
        yield causes.NoCard(mod)

    def suppose(self, problem: Problem) -> Iterator[Supposition]:
        """Yield what the game is, and what the pack holds and wants."""
        around = self.surroundings
        games = sum(1 << around.games.index(each) for each in set(problem.games))
        yield Supposition(around.game, games, causes.GameIs(problem.games))
        edition = around.edition_mask([problem.edition])
        yield Supposition(around.edition, edition, causes.EditionIs(problem.edition))
        for name in sorted(around.expansions):
            there = name in problem.expansions
            mask = THERE if there else ABSENT
            yield Supposition(around.expansions[name], mask, causes.ExpansionIs(name, there))
        for hold in problem.holds:
            yield from self._suppose_hold(hold)
        for want in problem.wants:
            yield from self._suppose_want(want)

    def _suppose_hold(self, hold: Hold) -> Iterator[Supposition]:
        variable = self.rules.mods.get(hold.mod)
        if variable is not None:
            held = [each for each in variable.mod.releases if each.version == hold.version]
            mask = ABSENT | variable.mask_of(held)
            yield Supposition(variable.number, mask, causes.Held(hold))

    def _suppose_want(self, want: Want) -> Iterator[Supposition]:
        variable = self.rules.mods[want.mod]
        mask = variable.mask(want.range) | (ABSENT if want.optional else 0)
        yield Supposition(variable.number, mask, causes.Wanted(want))
        for group_id, names in want.options:
            for group in self.rules.groups_of(want.mod):
                if group.group.id == group_id:
                    cause = causes.OptionWanted(want, group_id, names)
                    wished = _wished(group, names)
                    is_off = group.group.pick == "any" and wished == OFF
                    if want.optional or is_off:
                        wished |= ABSENT
                    yield Supposition(group.number, wished, cause)


def _wished(group: GroupVariable, names: tuple[str, ...]) -> int:
    """Return the values of an option variable that a want with these choices allows."""
    if group.group.pick == "one":
        return group.mask(names)
    choice = group.choices[1]
    return ON if choice is not None and choice.id in names else OFF


def _asks_for_prereleases(problem: Problem) -> dict[ModId, frozenset[Key]]:
    """Return of which releases the pack names a pre-release, by mod; those of others are not taken."""
    asked: dict[ModId, frozenset[Key]] = {}
    for want in problem.wants:
        if want.range.opens:
            asked[want.mod] = asked.get(want.mod, frozenset()) | want.range.opens
    for hold in problem.holds:
        if hold.version.is_prerelease:
            named = {hold.version.release_key}
            asked[hold.mod] = asked.get(hold.mod, frozenset()) | named
    return asked


@dataclass(slots=True)
class _Preference:
    """A wish that is decided before the walk, where it can still be had."""

    number: int
    mask: int


class _Run:
    """One search. Iterative, so that a long chain of needs meets no recursion limit."""

    def __init__(
        self, searcher: Searcher, problem: Problem, suppositions: list[Supposition]
    ) -> None:
        self.searcher = searcher
        self.engine = searcher.engine
        self.began = self.spent = searcher.engine.steps
        self.taking = searcher.taking
        self.rules = searcher.rules
        self.suppositions = suppositions
        self.preferences = list(self._preferences(problem))
        wanted = [searcher.rules.mods[want.mod] for want in problem.wants]
        # The walk: what has to come in, in order; how far it is; and what came in on the way.
        self.queue: list[Entry] = [((each.number, each.everything & ~ABSENT),) for each in wanted]
        self.optional = {
            searcher.rules.mods[want.mod].number for want in problem.wants if want.optional
        }
        self.at = 0
        self.taken: dict[int, int] = {}
        self.next_wish = 0
        # For each decision: how far wishes and walk were when it was taken.
        self.marks = [(0, 0, len(self.queue), 0)] * searcher.engine.level
        self.decided = [(each.number, each.mask) for each in suppositions[: searcher.engine.level]]
        self.conflicts = searcher.engine.conflicts
        self.guide: Guide | None = None

    def _preferences(self, problem: Problem) -> Iterator[_Preference]:
        rules, around = self.rules, self.searcher.surroundings
        for mod, locked in problem.locked.items():
            yield from self._keep(mod, locked)
        for want in problem.wants:
            if want.optional:
                variable = rules.mods[want.mod]
                yield _Preference(variable.number, variable.everything & ~ABSENT)
        for version in problem.games[:-1]:  # the last is what is left
            yield _Preference(around.game, 1 << around.games.index(version))

    def _keep(self, mod: ModId, locked: Locked) -> Iterator[_Preference]:
        variable = self.rules.mods.get(mod)
        if variable is None:
            return
        kept = [each for each in variable.mod.releases if is_locked(each, locked)]
        if kept:
            yield _Preference(variable.number, ABSENT | variable.mask_of(kept))
        chosen = dict(locked.options)
        for group in self.rules.groups_of(mod):
            if group.group.id in chosen:
                yield _Preference(group.number, ABSENT | _wished(group, chosen[group.group.id]))

    def run(self) -> Found | NotFound:
        engine = self.engine
        while True:
            conflict = engine.propagate()
            if conflict is not None:
                no_way = engine.learn(conflict)
                if no_way is not None:
                    return self._refuse(no_way)
                self._rewind()
                self._spend()
                if self._is_hard() and (refused := self._ask_guide()):
                    return refused
                continue
            if engine.level < len(self.suppositions):
                supposed = self.suppositions[engine.level]
                if not engine.domains[supposed.number] & supposed.mask:
                    return self._refuse(Clause([(supposed.number, supposed.mask)], supposed.cause))
                self._decide(supposed.number, supposed.mask)
                continue
            if not self._grant_wish() and self._walk():
                if self._forbid_circle():
                    continue
                self._spend()
                game = engine.domains[self.searcher.surroundings.game]
                return Found(dict(self.taken), self.searcher.surroundings.games[_lowest(game)])

    def _is_hard(self) -> bool:
        """Whether it has met so many conflicts that a guide is worth its cost, and has none yet."""
        met = self.engine.conflicts - self.conflicts
        return met >= _HARD and self.guide is None and not self.searcher.keeps

    def _ask_guide(self) -> NotFound | None:
        """Take a guide, and begin again with it; or return what it says stands against everything."""
        engine = self.engine
        self.guide = Guide(engine.given, engine.sizes)
        supposed = [(each.number, each.mask) for each in self.suppositions]
        against = self.guide.refused(supposed, self.searcher.work or Work(_UNBOUNDED))
        if against is not None:
            return NotFound(self._supposed(), against, engine.steps - self.began)
        engine.go_back(min(engine.level, len(self.suppositions)))
        self._rewind()
        return None

    def _is_allowed(self, number: int, mask: int) -> bool:
        """Whether a decision can end in a line-up; else the engine learns that it cannot."""
        if self.guide is None or self.engine.level < len(self.suppositions):
            return True
        work = self.searcher.work or Work(_UNBOUNDED)
        lesson = self.guide.lesson(self.decided, (number, mask), work)
        if lesson is None:
            return True
        self.engine.teach(*lesson)
        return False

    def _spend(self) -> None:
        """Count the work that was done since this was asked last. Raises OutOfWork."""
        spent, self.spent = self.engine.steps - self.spent, self.engine.steps
        self.searcher.spend(spent)

    def _forbid_circle(self) -> bool:
        """Rule out hints about the load order that run in a circle among what was found, if any do."""
        found = {
            variable.mod.id: variable.mod.releases[value - 1]
            for number, value in self.taken.items()
            if isinstance(variable := self.rules.by_number[number], ModVariable)
        }
        circle = find_circle(found)
        if circle:
            self.engine.go_back(0)
            self._rewind()
            self.taking.forbid_circle(circle)
            self.guide = None  # it does not know of the circle
            self.conflicts = self.engine.conflicts
        return bool(circle)

    def _refuse(self, conflict: Clause) -> NotFound:
        leaves = leaves_of(self.engine.trace(conflict))
        return NotFound(self._supposed(), tuple(leaves), self.engine.steps - self.began)

    def _supposed(self) -> tuple[Clause, ...]:
        # All that is supposed, and not only what the search came by: what others want may make the
        # way to the contradiction shorter.
        return tuple(Clause([(each.number, each.mask)], each.cause) for each in self.suppositions)

    def _decide(self, number: int, mask: int) -> None:
        self.marks.append((self.next_wish, self.at, len(self.queue), len(self.taken)))
        self.decided.append((number, mask))
        self.engine.decide(number, mask)

    def _rewind(self) -> None:
        """Take wishes and walk back to where the engine went back to."""
        level = self.engine.level
        if level < len(self.marks):
            self.next_wish, self.at, queued, taken = self.marks[level]
            del self.marks[level:]
            del self.decided[level:]
            del self.queue[queued:]
            while len(self.taken) > taken:
                self.taken.popitem()

    def _grant_wish(self) -> bool:
        """Decide for the next wish that can be had and is not so already; False: none is left."""
        domains = self.engine.domains
        while self.next_wish < len(self.preferences):
            wish = self.preferences[self.next_wish]
            domain = domains[wish.number]
            if domain & wish.mask and domain & ~wish.mask:
                if self._is_allowed(wish.number, wish.mask):
                    self._decide(wish.number, wish.mask)
                return True
            self.next_wish += 1
        return False

    def _walk(self) -> bool:
        """Go on to the next decision and take it; True: there is none left, all is in."""
        domains = self.engine.domains
        while self.at < len(self.queue):
            entry = self.queue[self.at]
            if any(number in self.taken and domains[number] & mask for number, mask in entry):
                self.at += 1
                continue
            number, value_mask = self._first_possible(entry)
            if number < 0:
                # An optional want that cannot be had, or a need that is ignored.
                assert self.searcher.ignored or entry[0][0] in self.optional
                self.at += 1
                continue
            if domains[number] != value_mask:
                if self._is_allowed(number, value_mask):
                    self._decide(number, value_mask)
                return False
            value = _lowest(value_mask)
            self.taken[number] = value
            self.at += 1
            self.queue += self.taking.entries_of(number, value)
        return True

    def _first_possible(self, entry: Entry) -> tuple[int, int]:
        """Return the first of an entry's values that is still possible, as a variable and a mask."""
        for number, mask in entry:
            possible = self.engine.domains[number] & mask & ~ABSENT
            if possible:
                return number, possible & -possible
        return -1, 0


def _lowest(mask: int) -> int:
    """Return the lowest value of a mask."""
    return (mask & -mask).bit_length() - 1
