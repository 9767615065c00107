"""Owners: written in fields and read back, whatever a version is called; old texts are understood."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.owners import (
    FOREIGN,
    LOAD_ORDER,
    Party,
    mod_of,
    owner_fields,
    owner_of,
    owner_of_text,
    owner_or_nobody,
)

releases = st.builds(
    ReleaseName,
    st.sampled_from(["tides", "vanilla", "load-order"]).map(ModId),
    st.text(min_size=1),
    st.text(),
)


class OwnersTest(unittest.TestCase):
    @given(st.one_of(releases, st.sampled_from(Party)))
    def test_fields_read_back(self, owner: ReleaseName | Party) -> None:
        self.assertEqual(owner_of(owner_fields(owner)), owner)
        self.assertEqual(mod_of(owner), owner.value if isinstance(owner, Party) else owner.mod)

    def test_nobody(self) -> None:
        self.assertIsNone(owner_or_nobody(owner_fields(None)))
        with self.assertRaises(ValueError):
            owner_of(owner_fields(None))

    def test_texts_of_older_states(self) -> None:
        beta = ReleaseName(ModId("tides"), "Beta 2")
        for text, owner in (
            ("foreign", FOREIGN),
            ("load-order", LOAD_ORDER),
            ("tides Beta 2", beta),
            ("", None),
        ):
            self.assertEqual(owner_of_text(text), owner)


if __name__ == "__main__":
    unittest.main()
