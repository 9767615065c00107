"""The terms of mods: as they are stored they say what the mods themselves say."""

from __future__ import annotations

import unittest
from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.catalog.card_store import (
    Stamp,
    StoredCard,
    StoredMods,
    look_up_terms,
    store_card,
    terms_of,
)
from rellum.core.catalog.model import Catalog, Mod
from rellum.core.catalog.terms import MadeTerms
from rellum.core.values.ids import ModId
from tests.core.solving.worlds import catalog, need, random_problem, release


def stored(mod: Mod) -> StoredCard:
    return store_card(mod, Stamp(file=f"{mod.id}.toml", size=1, mtime_ns=1, ctime_ns=1))[0]


def hashes(cards: dict[ModId, StoredCard]) -> dict[ModId, str]:
    return {mod: card.versions_hash for mod, card in cards.items()}


class TermsTest(unittest.TestCase):
    def check(self, cards: dict[ModId, StoredCard], world: Catalog) -> None:
        """Compare what is stored with what the mods say."""
        kept = StoredMods(cards, lambda card: world.mods[card.id])
        book, truth = terms_of(replace(world, mods=kept)), MadeTerms(world)
        for mod in world.mods:
            self.assertEqual(book.terms(mod), truth.terms(mod))
            self.assertEqual(book.versions(mod), truth.versions(mod))
            self.assertEqual(book.names(mod), truth.names(mod))

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 2**32).map(Random))
    def test_stored_terms_follow_the_cards_as_they_change(self, source) -> None:
        world = random_problem(source).catalog
        cards = {mod: stored(each) for mod, each in world.mods.items()}
        cards = look_up_terms(cards, set(cards), {})
        self.check(cards, world)
        known = hashes(cards)
        mods, fresh = dict(world.mods), set()
        for mod in source.sample(sorted(mods), min(2, len(mods))):
            if source.random() < 0.4:
                del mods[mod], cards[mod]
                continue
            left = [each for each in mods[mod].releases if source.random() < 0.7]
            mods[mod] = replace(mods[mod], releases=tuple(left) or mods[mod].releases)
            cards[mod] = stored(mods[mod])
            fresh.add(mod)
        self.check(look_up_terms(cards, fresh, known), replace(world, mods=mods))

    def test_only_cards_that_name_what_changed_are_looked_up_again(self) -> None:
        world = catalog(
            release("a", "1", needs=(need("b", ">=1"),)), release("b", "1"), release("c", "1")
        )
        cards = {mod: stored(each) for mod, each in world.mods.items()}
        cards = look_up_terms(cards, set(cards), {})
        known = hashes(cards) | {ModId("b"): "other"}
        again = look_up_terms(cards, set(), known)
        self.assertIsNot(again[ModId("a")], cards[ModId("a")])
        self.assertIs(again[ModId("c")], cards[ModId("c")])

    def test_a_mod_of_very_many_releases_is_told_from_itself(self) -> None:
        many = [release("b", f"1.{number}") for number in range(80)]
        world = catalog(release("a", "1", needs=(need("b", ">=1.3"),)), *many)
        cards = {mod: stored(each) for mod, each in world.mods.items()}
        cards = look_up_terms(cards, set(cards), {})
        self.assertEqual([card.terms for card in cards.values()], [b"", b""])
        self.check(cards, world)
        mask = MadeTerms(world).terms(ModId("a")).plain_needs[0].meets
        self.assertEqual(mask.bit_count(), 77)


if __name__ == "__main__":
    unittest.main()
