"""Placing and layering: wrapper folders, patterns, and who wins."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.archives.model import Member
from rellum.core.catalog.release_rules import PlaceRule, Source
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.layers.model import Layer, LayerFile
from rellum.core.layers.placing import place_archives
from rellum.core.layers.target import LayerClash, lay_over
from rellum.core.layers.wrappers import PlacingFault, seen_through
from rellum.core.shelf.index import ShelfEntry
from rellum.core.values.ids import ModId
from rellum.core.values.paths import MemberPath, PlacePath, TargetPath, shown
from tests.support import NoMaker

ENTRY = ShelfEntry(digest=Digest("d" * 64), size=1, sha256=None, name="tides.zip")


def member(path: str) -> Member:
    return Member(path=MemberPath(path), size=1, digest=hash_bytes(path.encode()), executable=False)


def rule(
    take: str, to: str = "@game/mods/t", expect: tuple[str, ...] = (), **more: Any
) -> PlaceRule:
    return PlaceRule(
        take=take, to=PlacePath(to), expect=expect, source=Source(file="c.toml"), **more
    )


def no_winner(_: TargetPath) -> None:
    """The load order decides."""


def placed(rules: list[PlaceRule], *paths: str) -> dict[str, str]:
    files = place_archives(rules, [(ENTRY, [member(path) for path in paths])])
    return {shown(file.path): file.member.path for file in files}


class PlacingTest(unittest.TestCase):
    def test_wrapper_folders_are_found(self) -> None:
        for wrapper in ("", "Tides-3.2/", "a/b/c/"):
            found = placed(
                [rule("T/**", expect=("tides.dat", "charts/"))],
                f"{wrapper}T/tides.dat",
                f"{wrapper}T/charts/x.dat",
                f"{wrapper}readme.txt",
            )
            self.assertEqual(
                found,
                {"mods/t/tides.dat": f"{wrapper}T/tides.dat",
                 "mods/t/charts/x.dat": f"{wrapper}T/charts/x.dat"},
            )  # fmt: skip

    def test_expect_finds_the_folder_of_everything(self) -> None:
        found = placed([rule("**", expect=("plumb.dat",))], "top/plumb.dat", "top/more/x")
        self.assertEqual(set(found), {"mods/t/plumb.dat", "mods/t/more/x"})
        self.assertEqual(set(placed([rule("**")], "top/plumb.dat")), {"mods/t/top/plumb.dat"})

    def test_what_is_left_out_stripped_and_renamed(self) -> None:
        paths = ("a/x/one.tex", "a/y/two.tex", "a/y/notes.txt", "a/y/old/three.tex")
        left = rule("a/**", leave_out=("*.txt", "y/old/**"))
        self.assertEqual(set(placed([left], *paths)), {"mods/t/x/one.tex", "mods/t/y/two.tex"})
        stripped = rule("a/**", strip=1, leave_out=("*.txt",))
        self.assertEqual(
            set(placed([stripped], *paths)),
            {"mods/t/one.tex", "mods/t/two.tex", "mods/t/old/three.tex"},
        )
        renamed = rule("a/**", rename=(("*.tex", "sea_*.dds"), ("y/*.txt", "doc/**.md")))
        self.assertEqual(
            set(placed([renamed], *paths)),
            {"mods/t/x/sea_one.dds", "mods/t/y/sea_two.dds", "mods/t/y/old/sea_three.dds",
             "mods/t/doc/notes.md"},
        )  # fmt: skip
        across = rule("a/**", rename=(("y/**/*.tex", "z/*.*.tex"),))
        self.assertIn("mods/t/z/old.three.tex", placed([across], *paths))
        for wrong, words in (
            (rule("a/**", strip=2), "does not lie in 2 folders to strip"),
            (rule("a/**", rename=(("*", "same"),)), "notes.txt would both become mods/t/y/same"),
            (rule("a/**", rename=(("*.tex", "nul"),)), "keep that name for a device"),
        ):
            with self.assertRaises(PlacingFault) as caught:
                placed([wrong], *paths)
            self.assertIn(words, caught.exception.summary)

    @given(
        st.lists(st.from_regex(r"[ab]{1,2}(/[ab]{1,2}){0,2}\.(x|y)", fullmatch=True), max_size=6),
        st.sampled_from(["*.x", "a*", "**", "a/*.y", "**/b*.x"]),
        st.integers(0, 2),
    )
    def test_no_file_is_lost_or_doubled(self, paths, pattern, strip) -> None:
        paths = sorted(set(paths))
        if not paths:
            return
        try:
            found = placed([rule("**", strip=strip, rename=((pattern, "n_" + pattern),))], *paths)
        except PlacingFault:
            return
        self.assertEqual(sorted(found.values()), paths)

    def test_rules_for_options(self) -> None:
        rules = [
            rule("low/**", options=(("quality", "low"),)),
            rule("high/**", options=(("quality", "high"), ("extra", "foam"))),
            rule("core/**"),
        ]
        members = [member(f"{folder}/a_{folder}") for folder in ("low", "high", "core")]
        for options, names in (
            ((("quality", ("low",)),), {"a_low", "a_core"}),
            ((("quality", ("high",)), ("extra", ("foam", "gulls"))), {"a_high", "a_core"}),
            ((("quality", ("high",)), ("extra", ())), {"a_core"}),
            ((), {"a_core"}),
        ):
            files = place_archives(rules, [(ENTRY, members)], options)
            self.assertEqual({str(file.path).rpartition("/")[2] for file in files}, names)

    def test_patterns(self) -> None:
        paths = ("tex/a.tex", "tex/b.png", "tex/deep/c.tex", "one.txt")
        self.assertEqual(set(placed([rule("tex/*.tex")], *paths)), {"mods/t/a.tex"})
        self.assertEqual(
            set(placed([rule("tex/**/*.tex")], *paths)), {"mods/t/a.tex", "mods/t/deep/c.tex"}
        )
        self.assertEqual(set(placed([rule("one.txt")], *paths)), {"mods/t/one.txt"})
        both = placed([rule("tex/a.tex"), rule("tex/**", "@game/tex")], *paths)
        self.assertEqual(both["mods/t/a.tex"], both["tex/a.tex"])

    def test_what_was_seen_through_is_said(self) -> None:
        rules = [rule("T/**", expect=("x",)), rule("U/**", expect=("y",)), rule("V/**")]
        members = [member(f"a/b/{path}") for path in ("T/x", "U/y", "V/z")]
        said = "tides.zip: the expected files are 2 levels deeper, in a/b/"
        self.assertEqual(tuple(seen_through(rules, [(ENTRY, members)])), (said,))
        self.assertEqual(tuple(seen_through(rules, [(ENTRY, [member("T/x"), member("U/y")])])), ())

    def test_what_does_not_fit(self) -> None:
        with self.assertRaisesRegex(PlacingFault, "'T/\\*\\*' is not in tides.zip") as caught:
            placed([rule("T/**")], "other/x", "y")
        self.assertIn("found at its top: other/, y", caught.exception.details)
        with self.assertRaisesRegex(PlacingFault, "fits more than one folder: a/, b/"):
            placed([rule("**", expect=("x",))], "a/x", "b/x")
        with self.assertRaises(PlacingFault):
            placed([rule("T/**", expect=("missing.dat",))], "T/x")

    def test_later_layers_win(self) -> None:
        one, two = (self.layer(mod, "a", f"{mod}-own") for mod in ("m1", "m2"))
        target = lay_over([one, two], NoMaker(), no_winner)
        self.assertEqual(str(target.files[PlacePath("@game/a")].owner), "m2 1")
        self.assertEqual(len(target.files), 3)
        self.assertEqual({str(owner): n for owner, n in target.hidden.items()}, {"m1 1": 1})

    def test_a_file_cannot_be_a_folder(self) -> None:
        with self.assertRaisesRegex(LayerClash, "a is a file of m1 1 and a folder of m2 1"):
            lay_over([self.layer("m1", "a"), self.layer("m2", "a/b/c")], NoMaker(), no_winner)

    def layer(self, mod: str, *paths: str) -> Layer:
        files = tuple(
            LayerFile(path=PlacePath(f"@game/{path}"), archive=ENTRY.digest, member=member(path))
            for path in paths
        )
        return Layer(mod=ModId(mod), version="1", files=files)


if __name__ == "__main__":
    unittest.main()
