"""A version raised, and identifiers made anew, in mods' own descriptions of every form."""

from __future__ import annotations

import unittest

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.self_descriptions import SelfDescription
from rellum.core.describing.own_values import (
    CannotWriteValue,
    identity_of,
    with_fresh_identity,
    with_version,
)
from rellum.core.describing.own_words import own_words_in

ONE, OTHER = "11111111-2222-4333-8444-555555555555", "99999999-2222-4333-8444-555555555555"
SAMPLES = {
    "json": '{ // mine\n  "format": "1.0", "id": "tides", "version": "1.0", // 1.0\n  "needs": ["x 1.0"] }\n',
    "toml": '# 1.0\nformat = "1.0"\nid = "tides"\nversion = "1.0" # kept\n',
    "xml": '<mod format="1.0"><!-- 1.0 --><id>tides</id><version>1.0</version></mod>\n',
    "ini": "; 1.0\nid = tides\nformat = 1.0\nversion = 1.0\n",
    "properties": "# 1.0\nid=tides\nformat=1.0\nversion=1.0\n",
    "headers": "Format: 1.0\nId: tides\nVersion: 1.0\n",
}


def description(form: str, identity: tuple[tuple[str, ...], ...] = ()) -> SelfDescription:
    lead = ("mod",) if form == "xml" else ()
    names = ("Id", "Version") if form == "headers" else ("id", "version")
    return SelfDescription(
        file="about", form=form, id=((*lead, names[0]),), version=((*lead, names[1]),),
        identity=identity, source=Source("sheet.toml"),
    )  # fmt: skip


class OwnValuesTest(unittest.TestCase):
    def test_only_the_version_is_other_afterwards(self) -> None:
        for form, text in SAMPLES.items():
            with self.subTest(form=form):
                said = description(form)
                [words] = own_words_in([said], ["about"], lambda _, t=text: t.encode())  # type: ignore[misc]
                self.assertEqual((words.id, words.version), ("tides", "1.0"))
                raised = with_version(said, words, text.encode(), "1.10").decode()
                [after] = own_words_in([said], ["about"], lambda _, t=raised: t.encode())  # type: ignore[misc]
                self.assertEqual(after.version, "1.10")
                at = raised.index("1.10")
                self.assertEqual(raised[:at] + "1.0" + raised[at + 4 :], text)
                self.assertIn("ersion", raised[:at].rsplit("1.0", 1)[-1])

    def test_what_cannot_be_written_alone_is_refused(self) -> None:
        said = description("toml")
        text = b'id = "tides-1.0"\nversion = "1"\nparts = [1, 0]\n'
        said_by_parts = description("toml")
        [words] = own_words_in([said], ["about"], lambda _: text)
        self.assertEqual(with_version(said, words, text, "2"), text.replace(b'"1"', b'"2"'))
        nothing = b'id = "tides"\n'
        [words] = own_words_in([said_by_parts], ["about"], lambda _: nothing)
        with self.assertRaises(CannotWriteValue):
            with_version(said_by_parts, words, nothing, "2")

    def test_identifiers_are_made_anew_each_once(self) -> None:
        said = description("json", identity=(("uuid",), ("parts", "uuid")))
        text = (
            f'{{"id": "tides", "uuid": "{ONE}", "parts": [{{"uuid": "{OTHER.upper()}"}}], '
            f'"of": "{ONE}"}}'
        ).encode()
        self.assertEqual(identity_of(said, text), (ONE, OTHER.upper()))
        fresh = with_fresh_identity(said, "about", text)
        first, second = identity_of(said, fresh)
        self.assertFalse({first, second} & {ONE, OTHER.upper()})
        self.assertEqual(fresh.count(first.encode()), 2)  # what points to it still does
        self.assertEqual(second, second.upper())
        named = text.replace(ONE.encode(), b"harbour:tides")
        with self.assertRaises(CannotWriteValue):
            with_fresh_identity(said, "about", named)


if __name__ == "__main__":
    unittest.main()
