"""Patches that are made, applied to what they were made from."""

from __future__ import annotations

import io
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.patching.making import make_diff, make_zstd
from rellum.core.patching.unified import patch_text
from rellum.core.patching.zstd_patch import apply_zstd

LINES = st.lists(st.sampled_from(["a\n", "b\n", "deep\r\n", "\n", "\x0b", "no end"]), max_size=12)


class MakingTest(unittest.TestCase):
    @given(st.binary(min_size=8, max_size=4000), st.binary(max_size=600), st.integers(0, 4000))
    def test_a_binary_patch_gives_the_new_file(self, old: bytes, more: bytes, at: int) -> None:
        new = old[:at] + more + old[at:]
        delta = make_zstd(old, new)
        assert delta is not None
        out = io.BytesIO()
        apply_zstd(old, delta, out, "patch", len(new))
        self.assertEqual(out.getvalue(), new)

    def test_it_is_as_small_as_what_changed(self) -> None:
        old = bytes(range(256)) * 4000
        delta = make_zstd(old, old[:500_000] + b"changed" + old[500_000:])
        assert delta is not None
        self.assertLess(len(delta), 200)

    @given(LINES, LINES)
    def test_a_diff_gives_the_new_text(self, old: list[str], new: list[str]) -> None:
        before, after = "".join(old).encode(), "".join(new).encode()
        delta = make_diff(before, after)
        if delta is not None:
            self.assertEqual(patch_text(before, delta, "diff"), after)
        elif before != after:
            self.assertTrue(b"\x0b" in before + after or not before or not after, (before, after))

    def test_what_is_no_text_has_no_diff(self) -> None:
        self.assertIsNone(make_diff(b"\xff\xfe", b"text\n"))
        self.assertIsNone(make_diff(b"a\0b", b"a\0c"))


if __name__ == "__main__":
    unittest.main()
