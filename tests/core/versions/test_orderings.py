"""Each ordering is a total order and puts its versions as mods mean them."""

from __future__ import annotations

import unittest
from datetime import date

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.versions.orderings import DOTTED, Ordering, parse_version
from rellum.core.versions.version import Version, VersionSyntaxError

numbers = st.integers(0, 30).map(str)
pieces = st.one_of(
    numbers, st.sampled_from(["a", "b", "beta", "rc1", "alpha", "z", "build7", "dev", "0", "00"])
)
dotted_texts = st.lists(pieces, min_size=1, max_size=4).flatmap(
    lambda parts: st.sampled_from([".", "_", "-"]).map(lambda sign: sign.join(parts))
)
identifiers = st.one_of(numbers, st.sampled_from(["alpha", "beta", "rc", "x-1", "0a"]))
semver_texts = st.builds(
    lambda core, pre, build: ".".join(core) + ("-" + ".".join(pre)) * bool(pre) + build,
    st.lists(numbers, min_size=1, max_size=3),
    st.lists(identifiers, max_size=3),
    st.sampled_from(["", "+b1", "+7"]),
)
decimal_texts = st.builds(
    lambda whole, fraction, word: f"{whole}.{fraction}{word}",
    st.integers(0, 5),
    st.text("0123456789", min_size=1, max_size=3),
    st.sampled_from(["", "b", "-beta", "rc2"]),
)
calendar_texts = st.builds(
    lambda date, sign, rest: date.strftime(f"%Y{sign}%m{sign}%d") + rest,
    st.dates(min_value=date(1000, 1, 1)),
    st.sampled_from(["-", ".", ""]),
    st.sampled_from(["", ".1", "b", "-2"]),
)
NAMES = ("Neap Tide", "Spring Tide", "Autumn, early")
TEXTS = {
    DOTTED: dotted_texts,
    Ordering("semver"): semver_texts,
    Ordering("decimal"): decimal_texts,
    Ordering("calendar"): calendar_texts,
    Ordering("serial"): st.integers(0, 10**6).map(str),
    Ordering("listed", NAMES): st.sampled_from(NAMES),
}


def versions_of(ordering: Ordering) -> st.SearchStrategy[Version]:
    return TEXTS[ordering].map(lambda text: parse_version(text, ordering))


triples = st.sampled_from(list(TEXTS)).flatmap(
    lambda ordering: st.tuples(*[versions_of(ordering)] * 3)
)

CHAINS = {
    DOTTED: (
        "1.4.2 < 1.5 < 1.5.1 < 1.6 < 1.10",
        "2.0-dev < 2.0-alpha < 2.0-beta.3 < 2.0-beta.12 < 2.0rc1 < 2.0 < 2.0.1",
        "97.3.21 < 97.3.21b < 97.3.21c < 97.3.22",
        "1.0a1 < 1.0a2 < 1.0b1 < 1.0rc1 < 1.0 < 1.0a < 1.0.1",
        "4_12_7 < 4-12-8 < v4.13",
        "2025-03-02 < 2025-11-01",
    ),
    # The example of Semantic Versioning 2.0.0, item 11.
    Ordering("semver"): (
        "1.0.0-alpha < 1.0.0-alpha.1 < 1.0.0-alpha.beta < 1.0.0-beta < 1.0.0-beta.2 "
        "< 1.0.0-beta.11 < 1.0.0-rc.1 < 1.0.0 < 1.0.1 < 1.10.0 < 2.0.0",
    ),
    Ordering("decimal"): ("2.05 < 2.1 < 2.15-beta < 2.15 < 2.15b < 2.2 < 10", "0.9 < 1"),
    Ordering("calendar"): ("2024-12-31 < 2025.1.2 < 20250302 < 2025-03-02.1 < 2025-03-03 < 26.01"),
    Ordering("serial"): ("9 < r10 < build 412 < 413",),
    Ordering("listed", NAMES): ("Neap Tide < Spring Tide < Autumn, early",),
}


class OrderingsTest(unittest.TestCase):
    @given(triples)
    def test_each_is_a_total_order(self, triple) -> None:
        a, b, c = triple
        self.assertEqual((a < b) + (a == b) + (a > b), 1)
        if a <= b and b <= c:
            self.assertLessEqual(a, c)
        if a == b:
            self.assertEqual(hash(a), hash(b))

    def test_known_chains(self) -> None:
        for ordering, chains in CHAINS.items():
            for chain in (chains,) if isinstance(chains, str) else chains:
                found = [parse_version(text, ordering) for text in chain.split(" < ")]
                self.assertEqual(found, sorted(found), chain)
                self.assertEqual(len(set(found)), len(found), chain)

    def test_same_version_written_otherwise(self) -> None:
        for ordering, one, two in (
            (DOTTED, "1.6", "1.6.0"),
            (DOTTED, "v1.6", "1_6_0_0"),
            (Ordering("semver"), "1.2", "v1.2.0+build.9"),
            (Ordering("decimal"), "2.1", "2.10"),
            (Ordering("calendar"), "2025-03-02", "20250302"),
            (Ordering("serial"), "412", "r0412"),
        ):
            self.assertEqual(parse_version(one, ordering), parse_version(two, ordering))

    def test_what_is_no_version(self) -> None:
        for scheme, texts in (
            ("dotted", ("", " ", "1..", ".1", "1 2", "1,2", "é", "1/2", "9" * 101)),
            ("semver", ("", "01.2.3", "1.2.3-01", "1.2.3.4", "1.2.3-", "1.2.3-é")),
            ("decimal", ("", "a", "1 2", "2.-")),
            ("calendar", ("", "2025", "2025-13-01", "2025-01-32", "spring")),
            ("serial", ("", "1.2", "r", "-4")),
            ("listed", ("", "Winter")),
        ):
            for text in texts:
                with self.assertRaises(VersionSyntaxError, msg=f"{scheme}: {text!r}"):
                    parse_version(text, Ordering(scheme, NAMES))

    def test_prereleases(self) -> None:
        for scheme, text, is_pre in (
            ("dotted", "5.1-beta.1", True),
            ("dotted", "97.3.21b", False),
            ("dotted", "1.0-M1", True),
            ("dotted", "1.0m1", False),
            ("dotted", "1.0-nightly.7", True),
            ("dotted", "1.0-canary", True),
            ("dotted", "1.0-experimental", True),
            ("semver", "1.0.0-x", True),
            ("semver", "1.0.0+x", False),
            ("decimal", "2.1rc1", True),
        ):
            self.assertEqual(parse_version(text, Ordering(scheme)).is_prerelease, is_pre, text)


if __name__ == "__main__":
    unittest.main()
