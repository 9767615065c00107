"""One stage of a hunt: where in a chain of mods the first prefix lies that breaks, as a posterior.

Position ``k`` means: the mods found so far, with what they need, and the first ``k`` elements are the
smallest prefix that breaks. Position 0: those found break alone. The position after the last: the whole does
not break, and what was believed before is wrong.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rellum.core.hunting.mods import ModSet, PackMods

SURE = 0.995
"""With this probability a position is taken as found."""

_SIZES = (0.62, 0.28, 0.10)
"""How often one, two, or three mods together are to blame."""

_MOVED = 0.002
"""What laying all mods anew may cost, in bits of information."""


@dataclass(frozen=True, slots=True)
class Rates:
    """How often answers are wrong: a break that does not show (``miss``), one that is none (``alarm``)."""

    miss: float
    alarm: float


CLEAN = Rates(0.001, 0.001)
"""It breaks every time."""
RARELY_WRONG = Rates(0.02, 0.02)
OFTEN_WRONG = Rates(0.05, 0.05)
SHOWS_OFTEN = Rates(0.2, 0.005)
"""It breaks about four times in five."""


class Stage:
    """The search for one more culprit.

    ``found`` are those of the stages before; ``broken`` is believed to break, and ``doubt`` the probability
    that this is wrong; ``sizes`` how many culprits are left, from none.
    """

    def __init__(
        self,
        pack: PackMods,
        found: ModSet,
        broken: ModSet,
        likely: Mapping[str, float],
        sizes: Sequence[float],
        doubt: float,
    ) -> None:
        self.found = found
        self.base = pack.close(found)
        self.elements = tuple(mod for mod in pack.chain if mod in broken and mod not in self.base)
        self.sizes = tuple(sizes)
        self.weights = self._prior([likely[mod] for mod in self.elements], max(doubt, 1e-9))
        self.excluded: dict[int, int] = {}
        """How often something else happened at a prefix."""

    def _prior(self, likely: Sequence[float], doubt: float) -> list[float]:
        """Return the probability of each position: that of the last of so many culprits in the chain."""
        total = sum(likely) or 1.0
        weights = [self.sizes[0]]
        before = 0.0
        for each in likely:
            upto = before + each / total
            weights.append(
                sum(
                    share * (upto**count - before**count)
                    for count, share in enumerate(self.sizes[1:], 1)
                )
            )
            before = upto
        whole = sum(weights) or 1.0
        return [each / whole * (1 - doubt) for each in weights] + [doubt]

    def prefix(self, count: int) -> ModSet:
        """Return the set of a prefix: those found, what they need, and so many elements."""
        return self.base | frozenset(self.elements[:count])

    @property
    def best(self) -> tuple[int, float]:
        """The likeliest position, and its probability."""
        position = max(range(len(self.weights)), key=self.weights.__getitem__)
        return position, self.weights[position]

    @property
    def last(self) -> int:
        """The position that means that the whole does not break."""
        return len(self.elements) + 1

    def learn(self, count: int, *, breaks: bool, rates: Rates) -> None:
        """Take in the answer for a prefix."""
        for position in range(len(self.weights)):
            does = position <= count
            says = (
                (1 - rates.miss if does else rates.alarm)
                if breaks
                else (rates.miss if does else 1 - rates.alarm)
            )
            self.weights[position] *= says
        whole = sum(self.weights)
        self.weights = [each / whole for each in self.weights]

    def doubt_position(self, position: int) -> None:
        """Make a position unlikely that turned out to be wrong."""
        self.weights[position] *= 0.01
        whole = sum(self.weights)
        self.weights = [each / whole for each in self.weights]

    def question(self, laid: ModSet, rates: Rates) -> int | None:
        """Return the prefix whose answer tells most; None where all that would tell something is excluded."""
        best, most = None, 0.0
        miss, alarm = _entropy(rates.miss), _entropy(rates.alarm)
        below = 0.0
        size = max(1, len(self.elements))
        have = len(laid & self.base)
        position_laid = [0]
        for mod in self.elements:
            position_laid.append(position_laid[-1] + (mod in laid))
        others = len(laid) - have
        for count in range(len(self.elements) + 1):
            below += self.weights[count]
            if self.excluded.get(count):
                continue
            says = below * (1 - rates.miss) + (1 - below) * rates.alarm
            told = _entropy(says) - below * miss - (1 - below) * alarm
            moved = count + others - 2 * position_laid[count]
            worth = told - _MOVED * moved / size
            if worth > most:
                best, most = count, worth
        return best

    @property
    def open_positions(self) -> int:
        """How many positions are still possible, leaving out the least likely half per cent."""
        kept, mass = 0, 0.0
        for each in sorted(self.weights, reverse=True):
            kept, mass = kept + 1, mass + each
            if mass >= SURE:
                break
        return kept

    def sizes_after(self, position: int, likely: Mapping[str, float]) -> tuple[float, ...]:
        """Return how many culprits are left once the one at a position is found, from none."""
        weights = [likely[mod] for mod in self.elements]
        total = sum(weights) or 1.0
        upto = sum(weights[:position]) / total
        before = sum(weights[: position - 1]) / total
        left = [
            share * (upto**count - before**count) for count, share in enumerate(self.sizes[1:], 1)
        ]
        if len(left) < 3:
            left.append(0.02 * sum(left))  # there may always be one more
        whole = sum(left) or 1.0
        return tuple(each / whole for each in left)


def first_sizes(vanilla_breaks: float) -> tuple[float, ...]:
    """Return how many culprits there are before anything is found."""
    return (vanilla_breaks, *(each * (1 - vanilla_breaks) for each in _SIZES))


def _entropy(share: float) -> float:
    if share <= 0 or share >= 1:
        return 0.0
    return -share * math.log2(share) - (1 - share) * math.log2(1 - share)
