"""JSON Patch and Merge Patch: the RFCs' own examples, laws, and text that keeps its looks."""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.patching.json_patch import merge_json, merged, patch_json
from rellum.core.patching.model import PatchFault

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-5, 5) | st.text("ab/~", max_size=3),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.text("ab/~", max_size=2), inner, max_size=3)
    ),
    max_leaves=8,
)
# RFC 6902, appendix A: document, patch, result (None: an error).
EXAMPLES: tuple[tuple[Any, Any, Any], ...] = (
    ({"foo": "bar"}, [{"op": "add", "path": "/baz", "value": "qux"}], {"baz": "qux", "foo": "bar"}),
    (
        {"foo": ["bar", "baz"]},
        [{"op": "add", "path": "/foo/1", "value": "qux"}],
        {"foo": ["bar", "qux", "baz"]},
    ),
    ({"baz": "qux", "foo": "bar"}, [{"op": "remove", "path": "/baz"}], {"foo": "bar"}),
    ({"foo": ["bar", "qux", "baz"]}, [{"op": "remove", "path": "/foo/1"}], {"foo": ["bar", "baz"]}),
    ({"baz": "qux"}, [{"op": "replace", "path": "/baz", "value": "boo"}], {"baz": "boo"}),
    (
        {"foo": {"bar": "baz", "waldo": "fred"}, "qux": {"corge": "grault"}},
        [{"op": "move", "from": "/foo/waldo", "path": "/qux/thud"}],
        {"foo": {"bar": "baz"}, "qux": {"corge": "grault", "thud": "fred"}},
    ),
    (
        {"foo": ["all", "grass", "cows", "eat"]},
        [{"op": "move", "from": "/foo/1", "path": "/foo/3"}],
        {"foo": ["all", "cows", "eat", "grass"]},
    ),
    (
        {"baz": "qux", "foo": ["a", 2, "c"]},
        [
            {"op": "test", "path": "/baz", "value": "qux"},
            {"op": "test", "path": "/foo/1", "value": 2},
        ],
        {"baz": "qux", "foo": ["a", 2, "c"]},
    ),
    ({"baz": "qux"}, [{"op": "test", "path": "/baz", "value": "bar"}], None),
    (
        {"foo": "bar"},
        [{"op": "add", "path": "/child", "value": {"grandchild": {}}}],
        {"foo": "bar", "child": {"grandchild": {}}},
    ),
    ({"foo": "bar"}, [{"op": "add", "path": "/baz/bat", "value": "qux"}], None),
    ({"/": 9, "~1": 10}, [{"op": "test", "path": "/~01", "value": 10}], {"/": 9, "~1": 10}),
    ({"/": 9, "~1": 10}, [{"op": "test", "path": "/~01", "value": "10"}], None),
    (
        {"foo": ["bar"]},
        [{"op": "add", "path": "/foo/-", "value": ["abc", "def"]}],
        {"foo": ["bar", ["abc", "def"]]},
    ),
    ({"a": {"b": 1}}, [{"op": "copy", "from": "/a", "path": "/c"}], {"a": {"b": 1}, "c": {"b": 1}}),
    ({"a": {"b": 1}}, [{"op": "move", "from": "/a", "path": "/a/b"}], None),
    ([1, 2], [{"op": "remove", "path": "/02"}], None),
    ([True], [{"op": "test", "path": "/0", "value": 1}], None),
    ({}, [{"op": "grow", "path": ""}], None),
    ({}, [{"path": ""}], None),
)


class JsonPatchTest(unittest.TestCase):
    def test_examples(self) -> None:
        for document, patch, result in EXAMPLES:
            texts = [json.dumps(each).encode() for each in (document, patch)]
            if result is None:
                with self.assertRaisesRegex(PatchFault, "p: operation 1:", msg=str(patch)):
                    patch_json(texts[0], texts[1], "p")
            else:
                self.assertEqual(json.loads(patch_json(texts[0], texts[1], "p")), result)

    @given(VALUES, VALUES)
    def test_whatever_is_there_can_be_replaced_and_tested(self, document, value) -> None:
        patch = [
            {"op": "replace", "path": "", "value": value},
            {"op": "test", "path": "", "value": value},
        ]
        found = patch_json(json.dumps(document).encode(), json.dumps(patch).encode(), "p")
        self.assertEqual(json.loads(found), value)

    def test_merge_examples(self) -> None:
        # RFC 7396, appendix A.
        for target, patch, result in (
            ({"a": "b"}, {"a": "c"}, {"a": "c"}),
            ({"a": "b"}, {"a": None}, {}),
            ({"a": ["b"]}, {"a": "c"}, {"a": "c"}),
            ({"a": {"b": "c"}}, {"a": {"b": "d", "c": None}}, {"a": {"b": "d"}}),
            (["a", "b"], ["c", "d"], ["c", "d"]),
            ({"e": None}, {"a": 1}, {"e": None, "a": 1}),
            ([1, 2], {"a": "b", "c": None}, {"a": "b"}),
            ({}, {"a": {"bb": {"ccc": None}}}, {"a": {"bb": {}}}),
        ):
            self.assertEqual(merged(target, patch), result)

    @given(VALUES, VALUES)
    def test_merging_twice_changes_nothing(self, target, patch) -> None:
        once = merged(target, patch)
        self.assertEqual(merged(once, patch), once)

    def test_looks_are_kept(self) -> None:
        content = b'{\r\n\t"depth": 10,\r\n\t"name": "s\xc3\xa9a"\r\n}\r\n'
        self.assertEqual(merge_json(content, b'{"depth": 20}', "p"), content.replace(b"10", b"20"))
        self.assertEqual(merge_json(b'{"a": 1}', b'{"b": 2}', "p"), b'{"a": 1, "b": 2}')

    def test_what_cannot_be_read(self) -> None:
        for content, patch, words in (
            (b"{\n,}", b"[]", "the file:2: is no JSON"),
            (b"{}", b"{}", "is a list of operations"),
            (b"{}", b"[7]", "operation 1: an operation is an object"),
            (b"\xff\xfe", b"[]", "no UTF-8"),
            (b"{}", b"[" * 100_000, "nested too deeply|is no JSON"),
        ):
            with self.assertRaisesRegex(PatchFault, words):
                patch_json(content, patch, "p")


if __name__ == "__main__":
    unittest.main()
