"""The game's own load-order file: ours in our order and places, the others kept."""

from __future__ import annotations

import json
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.patching.order_file import order_lines, reorder
from tests.support import WorldTest, write_tree

names = st.lists(st.sampled_from("abcdefgh"), unique=True)


class ReorderTest(unittest.TestCase):
    @given(names, names, names)
    def test_others_stay_and_ours_follow_the_line_up(self, entries, before, wanted) -> None:
        ours = {*before, *wanted}
        made = reorder(entries, ours.__contains__, wanted)
        self.assertEqual([each for each in made if each in ours], wanted)
        others = [each for each in entries if each not in ours]
        self.assertEqual([each for each in made if each not in ours], others)
        text = order_lines("".join(f"{e}\n" for e in entries).encode(), set(before), wanted, str)
        self.assertEqual(text.decode().split(), made)
        self.assertEqual(reorder(made, ours.__contains__, wanted), made)

    def test_comments_line_ends_and_marks_stay(self) -> None:
        before = b"\xef\xbb\xbf# mine\r\nold-1\r\n\r\nown\r\n"
        made = order_lines(before, {"old-1"}, ["old-2", "new"], str)
        self.assertEqual(made, b"\xef\xbb\xbf# mine\r\nold-2\r\n\r\nown\r\nnew\r\n")


class LoadOrderFileTest(WorldTest):
    def set_up(self, form: str, more: str, content: bytes | None) -> None:
        self.setUp()
        self.world.change_sheet(
            f'\n[load-order]\nfile = "@game/order.{form}"\nform = "{form}"\nentries = ["@mods/*"]\n{more}'
        )
        if content is not None:
            write_tree(self.world.path("game"), {f"order.{form}": content})
        for mod, after in (("tides", "waves"), ("waves", "")):
            says = f'load = {{ after = ["{after}"] }}' if after else ""
            self.world.add_release(
                mod, "1.0", {"a": b"a"}, says=says, place=f'to = "@mods/{mod}-1/"'
            )

    def order(self, form: str) -> bytes:
        return self.world.game()[f"order.{form}"].content or b""

    def test_each_form_there_and_back(self) -> None:
        for form, more, before, expected in (
            ("lines", "", b"own\n", b"own\nwaves-1\ntides-1\n"),
            ("lines", "", None, b"waves-1\ntides-1\n"),
            ("json", 'key = ["load", "mods"]\n', b'{"load": {"mods": ["own"], "x": 1}}',
             b'{"load": {"mods": ["own", "waves-1", "tides-1"], "x": 1}}'),
            ("ini", 'key = ["mods"]\nvalue = "on"\n', b"[mods]\nown = off\n\n[other]\nx = 1\n",
             b"[mods]\nown = off\nwaves-1 = on\ntides-1 = on\n\n[other]\nx = 1\n"),
            ("ini", 'key = ["mods"]\nvalue = "on"\n', None, b"[mods]\nwaves-1 = on\ntides-1 = on\n"),
        ):  # fmt: skip
            with self.subTest(form=form, before=before):
                self.set_up(form, more, before)
                first = self.world.game()
                self.make_applied()
                self.assertEqual(self.order(form), expected)
                self.assertTrue(self.world.apply().preview.plan.is_empty)
                self.assertEqual(self.world.check().findings, ())
                for mod in ("tides", "waves"):
                    self.world.drop(mod)
                self.world.resolve()
                self.world.apply()
                found = self.world.game().get(f"order.{form}")
                self.assertEqual(found and found.content, before)
                self.world.restore_all()
                self.assertEqual(self.world.game(), first)

    def test_a_new_release_takes_the_place_and_the_players_own_entries_stay(self) -> None:
        self.set_up("json", 'key = ["mods"]\n', None)
        self.make_applied()
        self.world.write_game(
            "order.json", json.dumps({"mods": ["waves-1", "x", "tides-1", "y"]}).encode()
        )
        self.world.add_release("waves", "2.0", {"a": b"2"}, place='to = "@mods/waves-2/"')
        self.world.take_all()
        self.world.resolve(fresh=True)
        self.world.apply()
        self.assertEqual(json.loads(self.order("json")), {"mods": ["waves-2", "x", "tides-1", "y"]})

    def test_a_file_of_another_shape_is_refused(self) -> None:
        self.set_up("json", 'key = ["mods"]\n', b'{"mods": "all"}')
        self.make_resolved()
        result = self.world.run("apply", "--yes")
        self.assertEqual(result.returncode, 2)
        self.assertIn("order.json: has no list at 'mods'", result.stderr)


if __name__ == "__main__":
    unittest.main()
