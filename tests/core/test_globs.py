"""Patterns over paths: as a well-known library reads them, and never slow."""

from __future__ import annotations

import re
import unittest
import warnings

from hypothesis import assume, given, settings
from hypothesis import strategies as st
from wcmatch import glob

from rellum.core.globs import any_test

FLAGS = glob.GLOBSTAR | glob.CASE | glob.DOTGLOB | glob.FORCEUNIX
classes = st.sampled_from(("[ab]", "[a-b]*", "*[!a]", "[!a-c]", "a[.]b"))
parts = st.one_of(st.just("**"), st.text("ab*?.", min_size=1, max_size=5), classes)
patterns = st.lists(parts, min_size=1, max_size=5).map("/".join)
names = st.text("ab.", min_size=1, max_size=4).filter(lambda name: name not in (".", ".."))
paths = st.lists(names, min_size=1, max_size=5).map("/".join)


class GlobsTest(unittest.TestCase):
    @settings(max_examples=2_000)
    @given(patterns, paths)
    def test_as_a_library_reads_them(self, pattern, path) -> None:
        assume(re.search(r"[*?\[]", pattern))
        assume(
            not re.fullmatch(r"[^*?\[]+/\*\*", pattern)
        )  # these fit their folder, too: on purpose
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            wanted = bool(glob.compile(pattern, flags=FLAGS).match(path))
        self.assertEqual(any_test([pattern])(path), wanted)

    def test_many_stars_take_no_longer_than_the_path_is_long(self) -> None:
        """With a search that goes back over its choices these would not end in a lifetime."""
        for pattern in ("*a" * 30 + "b", "**/*a*a*a*a*a*b/**/x/**/*a*a*b", "**/a/" * 20 + "b"):
            for path in ("a" * 250, "/".join(["a" * 50] * 60), "/".join("a" * 500)):
                self.assertFalse(any_test([pattern])(path))


if __name__ == "__main__":
    unittest.main()
