"""Builds: one version as different files, whose names tell for which game version or loader each is."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable
from dataclasses import dataclass, replace

from rellum.core.catalog.model import Release
from rellum.core.describing.name_parts import parts_of_name, stem_of
from rellum.core.describing.own_words import as_id


@dataclass(frozen=True, slots=True, kw_only=True)
class BuildSign:
    """What tells a build from another: the game version and the loader it is for; empty: not told."""

    game: str = ""
    loader: str = ""

    @property
    def name(self) -> str:
        """The build's name, empty where nothing tells one."""
        number = re.search(r"[0-9][0-9a-z.]*", self.game)
        words = self.loader or ("for" if number else "")
        return as_id(f"{words} {number[0] if number else ''}")


NO_BUILD = BuildSign()


@dataclass(frozen=True, slots=True, kw_only=True)
class BuildSigns:
    """What is known of the builds that there can be: the game's versions, the ids of loaders."""

    game_versions: Collection[str] = ()
    loaders: Collection[str] = ()

    def of_name(self, file: str) -> BuildSign:
        """Return what the name of a file says of its build."""
        parts = parts_of_name(stem_of(file), self.game_versions)
        return BuildSign(game=parts.game, loader=self._loader_in(as_id(parts.words)))

    def of_release(self, release: Release, *, has_own_words: bool) -> BuildSign:
        """Return what tells a release's files from those of another build: their name, or its own words."""
        sign = self.of_name(release.files[0].name) if release.files else NO_BUILD
        said = release.game or "" if has_own_words else ""
        return replace(sign, game=sign.game or said)

    def without_loader(self, mod_id: str) -> str:
        """Return an id that was read from a name without the loader that stands in it."""
        loader = self._loader_in(mod_id)
        return f"-{mod_id}-".replace(f"-{loader}-", "-", 1).strip("-") if loader else mod_id

    def _loader_in(self, words: str) -> str:
        return longest(
            each for each in self.loaders if f"-{each}-" in f"-{words}-" and each != words
        )


NO_SIGNS = BuildSigns()


def longest(texts: Iterable[str]) -> str:
    """Return the longest text, an empty one where there is none."""
    return max(texts, key=len, default="")
