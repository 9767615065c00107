"""Versions: a total order, and the cases that mods really have."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.versions.version import VersionSyntaxError, parse_version

pieces = st.one_of(
    st.integers(0, 30).map(str),
    st.sampled_from(["a", "b", "beta", "rc1", "alpha", "x", "build7", "dev", "0", "00"]),
)
texts = st.lists(pieces, min_size=1, max_size=4).flatmap(
    lambda parts: st.sampled_from([".", "_", "-"]).map(lambda sign: sign.join(parts))
)
versions = texts.map(parse_version)


class OrderTest(unittest.TestCase):
    @given(versions, versions, versions)
    def test_is_a_total_order(self, a, b, c) -> None:
        self.assertEqual((a < b) + (a == b) + (a > b), 1)
        if a <= b and b <= c:
            self.assertLessEqual(a, c)
        if a == b:
            self.assertEqual(hash(a), hash(b))

    def test_known_chains(self) -> None:
        for chain in (
            "1.4.2 < 1.5 < 1.5.1 < 1.6 < 1.10",
            "2.0-dev < 2.0-alpha < 2.0-beta.3 < 2.0-beta.12 < 2.0rc1 < 2.0 < 2.0.1",
            "97.3.21 < 97.3.21b < 97.3.21c < 97.3.22",
            "4_12_7 < 4-12-8 < v4.13",
            "412 < 413",
            "2025-03-02 < 2025-11-01",
        ):
            found = [parse_version(text) for text in chain.split(" < ")]
            self.assertEqual(found, sorted(found), chain)
            self.assertEqual(len(set(found)), len(found), chain)

    def test_same_version_written_otherwise(self) -> None:
        for one, two in (("1.6", "1.6.0"), ("v1.6", "1.6"), ("1_6", "1.6.0.0"), ("1.0b", "1b")):
            self.assertEqual(parse_version(one), parse_version(two))

    def test_no_versions(self) -> None:
        for text in ("", " ", "1..", ".1", "1 2", "1,2", "é", "1/2", "9" * 101):
            with self.assertRaises(VersionSyntaxError, msg=text):
                parse_version(text)

    def test_prerelease(self) -> None:
        self.assertTrue(parse_version("5.1-beta.1").is_prerelease)
        self.assertFalse(parse_version("97.3.21b").is_prerelease)


if __name__ == "__main__":
    unittest.main()
