"""What trials say about releases on game versions."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from rellum.core.catalog.model import Release, Trial
from rellum.core.solving.problem import Trust
from rellum.core.values.ids import ModId
from rellum.core.versions.ranges import parse_range
from rellum.core.versions.version import Version


class TrialBook:
    """The trials that count: of several with the same releases and game, the last recorded."""

    def __init__(self, trials: Iterable[Trial], trust: Trust) -> None:
        last: dict[tuple[Version, frozenset[tuple[ModId, str]]], Trial] = {}
        for trial in sorted(trials, key=lambda each: each.date):
            last[trial.game, frozenset(trial.releases)] = trial
        self.breaking = tuple(each for each in last.values() if each.outcome == "breaks")
        self._working: dict[tuple[ModId, str], list[Trial]] = defaultdict(list)
        for trial in last.values():
            if trial.outcome == "works" and trust == "tried":
                for name in trial.releases:
                    self._working[name].append(trial)
        self._mods = {mod for mod, _ in self._working}

    def speaks_of(self, mod: ModId) -> bool:
        """Whether some release of a mod may be taken by a trial."""
        return mod in self._mods

    def working(self, release: Release) -> tuple[Trial, ...]:
        """Return the trials by which a release may be taken outside the range that it declares."""
        found = self._working.get((release.mod, release.version.text))
        if not found or release.game is None:
            return ()
        declared = parse_range(release.game)
        return tuple(each for each in found if each.game not in declared)
