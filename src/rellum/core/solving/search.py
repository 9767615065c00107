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

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TypeVar

from rellum.core.solving import causes
from rellum.core.solving.answer import Found as Found
from rellum.core.solving.answer import NotFound as NotFound
from rellum.core.solving.answer import Supposition as Supposition
from rellum.core.solving.card_clauses import Rules
from rellum.core.solving.causes import Cause
from rellum.core.solving.clauses import Clause
from rellum.core.solving.engine import Engine
from rellum.core.solving.fixed_rules import FixedRules
from rellum.core.solving.load_circles import all_circles
from rellum.core.solving.problem import Hold, Locked, Problem, Want
from rellum.core.solving.prover import Work
from rellum.core.solving.release_clauses import ReleaseClauses
from rellum.core.solving.search_run import Run, wished
from rellum.core.solving.trial_book import TrialBook
from rellum.core.solving.variables import (
    ABSENT,
    OFF,
    THERE,
    Surroundings,
)
from rellum.core.values.ids import ModId
from rellum.core.versions.version import Key, Version

_CLAUSE = 5
"""What it costs to make a clause, in looks at one."""


class Searcher:
    """Answers for one catalog, for any wants, holds and game that its first problem could bring in.

    Of ``kept`` mods no other release is looked at. A quick one answers for the game of its problem alone,
    looks only at what is for that game, and gives up where it gets hard. ``tells``: reasons are asked for.
    """

    def __init__(
        self,
        problem: Problem,
        kept: Mapping[ModId, Locked] | None = None,
        *,
        is_quick: bool = False,
        tells: bool = True,
    ) -> None:
        self.problem = problem
        self.keeps = bool(kept)
        self.is_quick = is_quick
        self.rules: Rules = (
            make_fixed_rules(problem, tells=tells)
            if is_quick
            else _make_rules(Rules, problem, kept, tells=tells)
        )
        self.engine, self.surroundings = self.rules.engine, self.rules.surroundings
        self.rules.bring_in(
            [*(want.mod for want in problem.wants), *(hold.mod for hold in problem.holds)]
        )
        self.taking = ReleaseClauses(self.rules)
        self._last: Sequence[Supposition] = ()
        self.work: Work | None = None
        """What searches may cost together; None: as much as it takes."""

    @property
    def clauses(self) -> int:
        """How many clauses there are, those that were learned left out."""
        return self.engine.given_count

    @property
    def cost(self) -> int:
        """What it took to make all clauses, in looks at one."""
        return self.engine.given_count * _CLAUSE

    def search(
        self, problem: Problem, extra: Iterable[Supposition] = (), *, tells: bool = True
    ) -> Found | NotFound:
        """Find the best line-up for a problem over the same cards, with some more supposed.

        ``tells``: where there is none, the leaves of the proof are told. Raises OutOfWork where there is
        a limit to the work, and it does not suffice; a quick one where it gives up.
        """
        for mod in (want.mod for want in problem.wants):
            if mod not in self.rules.mods:
                return NotFound(tuple(Clause([], cause) for cause in self._no_card(mod)))
        suppositions = [*self.suppose(problem), *extra]
        self._go_back_to_shared(suppositions)
        return Run(self, problem, suppositions, tells=tells).run()

    def stand(self, suppositions: Sequence[Supposition]) -> bool:
        """Decide these and nothing more, and draw all conclusions; False: they cannot all hold."""
        engine = self.engine
        self._go_back_to_shared(suppositions)
        while True:
            conflict = engine.propagate()
            if conflict is not None:
                if engine.learn(conflict) is not None:
                    return False
            elif engine.level == len(suppositions):
                return True
            else:
                each = suppositions[engine.level]
                if not engine.domains[each.number] & each.mask:
                    return False
                engine.decide((each.number, each.mask))

    def _go_back_to_shared(self, suppositions: Sequence[Supposition]) -> None:
        """Undo what was decided beyond the suppositions that these share with the last ones."""
        common = self._shared_with_last(suppositions)
        if not common:
            before, steps = self.engine.given_count, self.engine.steps
            self._make_clauses(suppositions)
            made = (self.engine.given_count - before) * _CLAUSE
            self.spend(made + self.engine.steps - steps + len(self.rules.mods))
        self.engine.go_back(common)
        self._last = suppositions

    def spend(self, amount: int) -> None:
        """Count work that was done. Raises OutOfWork."""
        if self.work is not None:
            self.work.spend(amount)

    def _shared_with_last(self, suppositions: Sequence[Supposition]) -> int:
        """Return how many suppositions of the last search stand decided and hold here, too.

        None of them do where something about the game differs: other releases may have to be looked
        at then.
        """
        if suppositions is self._last:
            return min(len(suppositions), self.engine.level)
        around = self.surroundings
        fixed = {around.game, around.edition, *around.expansions.values()}
        common = 0
        for one, two in zip(self._last, suppositions, strict=False):
            if (one.number, one.mask) != (two.number, two.mask):
                return 0 if two.number in fixed else common
            common += 1
        return min(common, self.engine.level)

    def _make_clauses(self, suppositions: Sequence[Supposition]) -> None:
        """Add the clauses of all releases that can be chosen where the game is as supposed."""
        engine = self.engine
        engine.go_back(0)
        around = {self.surroundings.game, self.surroundings.edition}
        around.update(self.surroundings.expansions.values())
        for each in suppositions:
            if each.number in around and engine.domains[each.number] & each.mask:
                engine.decide((each.number, each.mask))
        if engine.propagate() is None:
            self.taking.add_all()
        engine.go_back(0)

    def forbid_circles(self) -> bool:
        """Rule out all circles in the load order, found or not; False: there are too many to know all."""
        mods = self.rules.mods
        circles, are_all = all_circles({mod: each.terms.load for mod, each in mods.items()})
        self.engine.go_back(0)
        for circle in circles:
            self.taking.forbid_circle(circle)
        return are_all

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
            mask = ABSENT | variable.mask_of_version(hold.version)
            yield Supposition(variable.number, mask, causes.Held(hold))

    def _suppose_want(self, want: Want) -> Iterator[Supposition]:
        variable = self.rules.mods[want.mod]
        mask = variable.mask(want.range) | (ABSENT if want.optional else 0)
        yield Supposition(variable.number, mask, causes.Wanted(want))
        for group_id, names in want.options:
            for group in self.rules.groups_of(want.mod):
                if group.group.id == group_id:
                    cause = causes.OptionWanted(want, group_id, names)
                    allowed = wished(group, names)
                    is_off = group.group.pick == "any" and allowed == OFF
                    if want.optional or is_off:
                        allowed |= ABSENT
                    yield Supposition(group.number, allowed, cause)


def make_fixed_rules(problem: Problem, *, tells: bool = True) -> FixedRules:
    """Return rules for the game of a problem alone, in which no mod is brought in yet."""
    rules = _make_rules(FixedRules, problem, None, tells=tells)
    rules.surroundings.fix(problem)
    return rules


R = TypeVar("R", bound=Rules)


def _make_rules(
    sort: type[R], problem: Problem, kept: Mapping[ModId, Locked] | None, *, tells: bool
) -> R:
    """Return rules of a sort, in which no mod is brought in yet."""
    engine = Engine(lambda pair: rules.cause_of(pair))
    editions = {rule.answer for rule in problem.catalog.sheet.edition_rules}
    editions |= {problem.edition} if problem.edition else set()
    rules = sort(
        engine,
        problem.catalog,
        Surroundings(engine, games_of(problem), sorted(editions)),
        TrialBook(problem.trials, problem.trust),
        asked=_asks_for_prereleases(problem),
        held=frozenset((hold.mod, hold.version) for hold in problem.holds),
        kept=kept,
        tells=tells,
    )
    return rules


def games_of(problem: Problem) -> tuple[Version, ...]:
    """Return the versions of the game that a problem speaks of, and those that the sheet knows, ascending."""
    games = {*problem.games, *problem.catalog.sheet.known_versions}
    games.update(trial.game for trial in problem.trials)
    return tuple(sorted(games))


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
