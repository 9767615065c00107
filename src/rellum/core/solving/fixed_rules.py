"""From cards to clauses where nothing about the game changes.

Releases that are not for the game are left out for good, and the needs of the others become clauses as
their mods are met: of a large catalog, half of all clauses are never made.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from rellum.core.catalog.terms import PlainNeed, narrowed
from rellum.core.solving import causes
from rellum.core.solving.card_clauses import Rules, named_by
from rellum.core.solving.causes import Cause
from rellum.core.solving.variables import ABSENT, THERE, ModVariable
from rellum.core.values.ids import ModId


class FixedRules(Rules):
    """The variables and clauses of the mods that some mods can bring in, for one game as it is."""

    def bring_in(self, mods: Iterable[ModId]) -> None:
        """Make variables of these mods and of all that they can bring in, and clauses of their needs."""
        self._begin()
        self._waiting += mods
        while self._waiting or self._unread:
            while self._waiting:
                self._variable_of(self._waiting.pop())
            if self._unread:
                self._read(self._unread.pop())
        self._forbid_what_broke()

    def read_alone(self, mod: ModId) -> ModVariable | None:
        """Read what a mod's card says and nothing more; None: it has no card."""
        self._begin()
        variable = self._variable_of(mod)
        if variable is not None:
            self._read(variable)
        return variable

    def _begin(self) -> None:
        self._ranges_of_game: dict[str, bool] = {}
        self._seen: set[ModId] = set()
        self._unread: list[ModVariable] = []
        self._waiting: list[ModId] = []

    def _variable_of(self, mod: ModId) -> ModVariable | None:
        """Return a mod's variable, made now if it is new, and read later; None: it has no card."""
        if mod not in self._seen:
            self._seen.add(mod)
            self._waiting += self.catalog.offered.get(mod, ())
            if mod in self.catalog.mods:
                count = self.book_of_terms.count(mod)
                self._unread.append(self._add_variable(mod, count))
        return self.mods.get(mod)

    def _read(self, variable: ModVariable) -> None:
        """Read what a mod's card says, and make clauses of what most needs are."""
        terms = self.book_of_terms.terms(variable.id)
        self._take_terms(variable, terms)
        self._leave_out(variable)
        looked_at, number, offered = variable.considered, variable.number, self.catalog.offered
        add, tells = self.engine.add_pair, self.tells
        left: list[PlainNeed] = []
        for term in terms.plain_needs:
            mask = term.mask & looked_at
            if not mask:
                continue
            other = self._variable_of(term.mod)
            if other is None or other is variable or not term.meets or term.mod in offered:
                left.append(term)
                continue
            add(
                number,
                variable.everything & ~mask,
                other.number,
                term.meets,
                term if tells else None,
            )
        variable.terms = narrowed(terms, left, looked_at)
        self._waiting += named_by(variable)

    def _leave_out(self, variable: ModVariable) -> None:
        """Leave out for good the releases that are never taken, or not with the game as it is."""
        terms, around, domains = variable.terms, self.surroundings, self.engine.domains
        out = terms.withdrawn & ~self.held_of(variable) | terms.unfinished
        out |= terms.prereleases & ~self.asked_of(variable)
        if self.book.speaks_of(variable.id):
            for mask, text, trials in self.games_of(variable, variable.considered):
                allowed = around.game_mask(text, tuple(trial.game for trial in trials))
                if not domains[around.game] & allowed:
                    out |= mask
        else:
            for mask, text in terms.games:
                if not self._is_for_game(text):
                    out |= mask
        for said in terms.editions:
            if not domains[around.edition] & around.edition_mask(said.editions):
                out |= said.mask
        for each in terms.expansions:
            needed = THERE if each.is_needed else ABSENT
            if not domains[around.expansion(each.expansion)] & needed:
                out |= each.mask
        if out & variable.considered:
            variable.considered &= ~out
            self.engine.add([(variable.number, ABSENT | variable.considered)], None)

    def _is_for_game(self, text: str) -> bool:
        """Whether a range of versions holds the game's, which is fixed."""
        found = self._ranges_of_game.get(text)
        if found is None:
            around = self.surroundings
            found = bool(self.engine.domains[around.game] & around.game_mask(text))
            self._ranges_of_game[text] = found
        return found

    def left_out_by(self, variable: ModVariable, mask: int) -> Iterator[Cause]:
        """Yield why a release was left out for good."""
        terms, around, domains = variable.terms, self.surroundings, self.engine.domains
        if withdrawn := terms.withdrawn & ~self.held_of(variable) & mask:
            yield causes.Withdrawn(variable, withdrawn)
        if terms.unfinished & mask:
            yield causes.Unfinished(variable, terms.unfinished)
        if terms.prereleases & ~self.asked_of(variable) & mask:
            yield causes.Prerelease(variable, terms.prereleases & ~self.asked_of(variable))
        for own, text, trials in self.games_of(variable, terms.everything):
            allowed = around.game_mask(text, tuple(trial.game for trial in trials))
            if own & mask and not domains[around.game] & allowed:
                yield causes.ForGame(variable, own, text, trials)
        for said in terms.editions:
            allowed = around.edition_mask(said.editions)
            if said.mask & mask and not domains[around.edition] & allowed:
                yield causes.ForEditions(variable, said.mask, said.editions)
        for each in terms.expansions:
            needed = THERE if each.is_needed else ABSENT
            if each.mask & mask and not domains[around.expansion(each.expansion)] & needed:
                yield causes.ForExpansion(variable, each.mask, each.expansion, each.is_needed)
