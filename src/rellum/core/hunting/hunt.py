"""The hunt itself: a coroutine that yields what to lay, is sent what happened, and returns the culprits.

Stages find one culprit after the other (``stage``); then each is proven, the pack is tried without it, and
where several are to blame, each is put back alone.
"""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Literal

from rellum.core.hunting.mods import ModSet, PackMods
from rellum.core.hunting.stage import SURE, Rates, Stage, first_sizes

MOST_ROUNDS = 60
"""After so many rounds the likeliest is told as a guess."""

NEARLY = 0.98
"""With this probability a member is taken as found: the stage after it would show where that is wrong."""
NEARLY_FIRST = 0.97
"""The same for the first member, whose every later stage would show it."""

_ANOTHER = 0.15
"""How likely there is another culprit, before the pack was tried without the first."""
_UNTOLD = 3
"""So often something else may happen in one place."""

Answer = Literal["works", "breaks", "other"]
Why = Literal["whole", "vanilla", "search", "alone", "prove", "fix", "put back"]


@dataclass(frozen=True, slots=True)
class Question:
    """What to lay next, and why. ``left`` is how many rounds this member takes at most, with true answers."""

    mods: ModSet
    why: Why
    left: int
    suspects: tuple[tuple[str, float], ...] = ()


Ending = Literal["found", "vanilla breaks", "nothing breaks", "guess", "cannot be told"]


@dataclass(frozen=True, slots=True)
class Found:
    """How a hunt ended. ``culprits`` are the smallest sets that break, each together.

    ``fixed`` is a pack that works. ``proven`` are members that a pack worked without, though it had the
    others of their set. ``untold``: it breaks with these in, and below that something else happens.
    """

    ending: Ending
    culprits: tuple[ModSet, ...] = ()
    proven: ModSet = frozenset()
    fixed: ModSet | None = None
    rounds: int = 0
    untold: ModSet = frozenset()


Hunting = Generator[Question, Answer, Found]


@dataclass
class _Log:
    laid: ModSet
    rounds: int = 0
    tests: list[tuple[ModSet, Answer]] = field(default_factory=list)


class _Capped(Exception):
    """The rounds are used up; what is likeliest is carried along."""


class _CannotTell(Exception):
    """Something else happens wherever it would tell more."""

    def __init__(self, mods: ModSet) -> None:
        super().__init__()
        self.mods = mods


class Hunter:
    """A hunt in one pack.

    ``likely`` weighs the mods; ``checks_first``: the whole and vanilla are tried first.
    """

    def __init__(
        self,
        pack: PackMods,
        rates: Rates,
        likely: Mapping[str, float] | None = None,
        *,
        checks_first: bool = True,
    ) -> None:
        self.pack = pack
        self.rates = rates
        self.likely = mixed(pack, likely or {})
        self.checks_first = checks_first
        self.stage: Stage | None = None
        self._log = _Log(laid=pack.all)

    def run(self) -> Hunting:
        """Hunt: yields questions, is sent answers."""
        log = self._log
        culprits: list[ModSet] = []
        removed: list[str] = []
        left = self.pack.all
        try:
            if self.checks_first:
                ending = yield from self._first_checks()
                if ending:
                    return Found(ending, rounds=log.rounds)
            while True:
                found = yield from self._search(left)
                if found is None:
                    if not culprits:
                        return Found("nothing breaks", rounds=log.rounds)
                    break
                found = yield from self._prove(found)
                culprits.append(found)
                go = min(found, key=lambda mod: (len(self.pack.needed_by[mod]), mod))
                removed.append(go)
                left = self.pack.without(left, go)
                works = yield from self._works(left)
                if works:
                    break
            if len(removed) > 1:
                culprits, left = yield from self._put_back(culprits, removed, left)
        except _Capped:
            return self._guess(culprits)
        except _CannotTell as fault:
            return Found("cannot be told", tuple(culprits), rounds=log.rounds, untold=fault.mods)
        proven = frozenset(mod for each in culprits for mod in each if self._is_proven(mod, each))
        return Found("found", tuple(culprits), proven, left, log.rounds)

    def _guess(self, culprits: list[ModSet]) -> Found:
        guess = list(culprits)
        if self.stage is not None:
            position, _ = self.stage.best
            inside = 0 < position <= len(self.stage.elements)
            more = {self.stage.elements[position - 1]} if inside else set()
            guess.append(self.stage.found | more)
        return Found("guess", tuple(each for each in guess if each), rounds=self._log.rounds)

    def _ask(self, mods: ModSet, why: Why, left: int) -> Generator[Question, Answer, Answer]:
        log = self._log
        if log.rounds >= MOST_ROUNDS:
            raise _Capped
        answer = yield Question(mods, why, left, self._suspects())
        log.rounds += 1
        log.laid = mods
        log.tests.append((mods, answer))
        return answer

    def _suspects(self) -> tuple[tuple[str, float], ...]:
        """Return the mods that are most likely the next culprit, with that probability."""
        stage = self.stage
        if stage is None:
            return ()
        pairs = zip(stage.elements, stage.weights[1:], strict=False)
        return tuple(sorted(pairs, key=lambda each: (-each[1], each[0]))[:3])

    def _first_checks(self) -> Generator[Question, Answer, Ending | None]:
        """Make sure that the pack breaks and vanilla does not; a surprise is asked twice."""
        for _ in range(2):
            answer = yield from self._ask(self.pack.all, "whole", 0)
            if answer == "breaks":
                break
        else:
            return "nothing breaks" if answer == "works" else "cannot be told"
        for _ in range(2):
            if (yield from self._ask(frozenset(), "vanilla", 0)) == "works":
                return None
        return "vanilla breaks"

    def _search(self, broken: ModSet) -> Generator[Question, Answer, ModSet | None]:
        """Find the smallest set that breaks in a set that does; None where that does not."""
        rates = self.rates
        first = Stage(
            self.pack, frozenset(), broken, self.likely, first_sizes(rates.miss), rates.alarm
        )
        stages: list[tuple[Stage, int]] = [(first, 0)]
        alone: dict[ModSet, int] = {}
        while True:
            stage, _ = stages[-1]
            self.stage = stage
            position, probability = stage.best
            if probability >= _enough(stage, position):
                if position == stage.last:
                    stages.pop()
                    if not stages:
                        return None
                    before, taken = stages[-1]
                    before.doubt_position(taken)
                    continue
                if position == 0:
                    if not stage.found:
                        return None
                    if alone.get(stage.base) or self._broke(stage.base):
                        return stage.found
                    yield from self._ask_prefix(stage, 0, "alone")
                    alone[stage.base] = 1
                    continue
                found = stage.found | {stage.elements[position - 1]}
                after = Stage(
                    self.pack,
                    found,
                    stage.prefix(position),
                    self.likely,
                    stage.sizes_after(position, self.likely),
                    1 - probability,
                )
                stages[-1] = (stage, position)
                stages.append((after, 0))
                continue
            count = stage.question(self._log.laid, rates)
            if count is None:
                raise _CannotTell(stage.prefix(min(position, len(stage.elements))))
            yield from self._ask_prefix(stage, count, "search")

    def _broke(self, mods: ModSet) -> bool:
        return (mods, "breaks") in self._log.tests

    def _ask_prefix(self, stage: Stage, count: int, why: Why) -> Generator[Question, Answer, None]:
        left = math.ceil(math.log2(max(2, stage.open_positions))) + 2
        answer = yield from self._ask(stage.prefix(count), why, left)
        if answer == "other":
            stage.excluded[count] = stage.excluded.get(count, 0) + 1
            if sum(stage.excluded.values()) >= _UNTOLD:
                raise _CannotTell(stage.prefix(min(stage.best[0], len(stage.elements))))
            return
        stage.learn(count, breaks=answer == "breaks", rates=self.rates)

    def _prove(self, found: ModSet) -> Generator[Question, Answer, ModSet]:
        """Make sure that each member is needed to break it: without it, the others work."""
        for mod in sorted(found):
            others = found - {mod}
            if not others or mod not in found or self._is_proven(mod, found):
                continue
            rest = self.pack.without(self.pack.close(found), mod)
            if not others <= rest:
                continue  # it cannot be left out alone: another needs it
            answer = yield from self._ask(rest, "prove", 1)
            if answer == "breaks":
                again = yield from self._ask(rest, "prove", 1)
                if again == "breaks":
                    return (yield from self._prove(others))
        return found

    def _is_proven(self, mod: str, found: ModSet) -> bool:
        others = found - {mod}
        return any(
            answer == "works" and others <= mods and mod not in mods
            for mods, answer in self._log.tests
        )

    def _works(self, mods: ModSet) -> Generator[Question, Answer, bool]:
        """Try a pack until it is improbable that there is another culprit in it."""
        doubt = _ANOTHER
        breaks = 0
        works = 0
        while doubt >= 1 - SURE or works < 1:
            answer = yield from self._ask(mods, "fix", 1)
            if answer == "works":
                works += 1
                says_bad, says_good = self.rates.miss, 1 - self.rates.alarm
            else:
                breaks += 1
                says_bad, says_good = 1 - self.rates.miss, self.rates.alarm
            bad, good = doubt * says_bad, (1 - doubt) * says_good
            doubt = bad / (bad + good)
            if doubt > SURE or breaks >= 3:
                return False
        return True

    def _put_back(
        self, culprits: list[ModSet], removed: list[str], left: ModSet
    ) -> Generator[Question, Answer, tuple[list[ModSet], ModSet]]:
        """Put each of several culprits back alone: where the pack still works with it, it is innocent."""
        kept: list[ModSet] = []
        out = set(removed)
        for found, mod in zip(culprits, removed, strict=True):
            mods = self.pack.core(self.pack.all - (out - {mod}))
            works = 0
            while True:
                answer = yield from self._ask(mods, "put back", 1)
                if answer != "works":
                    kept.append(found)
                    break
                works += 1
                if self.rates.miss**works < 1 - SURE:
                    out.discard(mod)
                    left = self.pack.core(self.pack.all - out)
                    break
        return kept, left


def _enough(stage: Stage, position: int) -> float:
    """Return the probability with which a position is taken as found."""
    if not 0 < position < stage.last:
        return SURE
    return NEARLY if stage.found else NEARLY_FIRST


def mixed(pack: PackMods, likely: Mapping[str, float]) -> dict[str, float]:
    """Return weights of the mods that add up to one: half of it what is likely, half of it all alike."""
    count = max(1, len(pack.chain))
    total = sum(likely.get(mod, 0.0) for mod in pack.chain)
    if total <= 0:
        return dict.fromkeys(pack.chain, 1 / count)
    return {mod: 0.5 / count + 0.5 * likely.get(mod, 0.0) / total for mod in pack.chain}
