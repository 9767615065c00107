"""Files in which mods describe themselves: every form gives the same, and hostile ones are refused."""

from __future__ import annotations

import json
import string
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.describing.own_files import (
    FILE_FORMS,
    MOST_BYTES,
    FileForm,
    NotReadable,
    read_own_file,
)

names = st.text(string.ascii_letters, min_size=1, max_size=8)
values = st.text(string.ascii_letters + string.digits + "._ ", min_size=1).map(str.strip)


def read(text: str | bytes, form: str) -> object:
    content = text.encode() if isinstance(text, str) else text
    return read_own_file(content, FileForm(form))


class OwnFilesTest(unittest.TestCase):
    @given(st.dictionaries(names, values.filter(bool), min_size=1, max_size=5))
    def test_each_form_gives_the_same_table(self, table: dict[str, str]) -> None:
        quoted = {key: json.dumps(value) for key, value in table.items()}
        lines = {
            "json": "// said by hand\n{" + "".join(f'"{k}": {v},' for k, v in quoted.items()) + "}",
            "toml": "".join(f"{k} = {v}\n" for k, v in quoted.items()),
            "ini": "; by hand\n[mod]\n" + "".join(f"{k} = {v}\n" for k, v in table.items()),
            "properties": "# by hand\n" + "".join(f"{k}={v}\n" for k, v in table.items()),
            "headers": "".join(f"{k}: {v}\n" for k, v in table.items()) + "\nand more text: here\n",
            "xml": "<mod>" + "".join(f"<{k}>{v}</{k}>" for k, v in table.items()) + "</mod>",
        }
        inner = {"ini": "mod", "xml": "mod"}
        for form, text in lines.items():
            for content in (text, b"\xef\xbb\xbf" + text.encode(), text.replace("\n", "\r\n")):
                found = read(content, form)
                found = found[inner[form]] if form in inner else found  # type: ignore[index]
                self.assertEqual(found, table, form)

    def test_xml_without_its_namespaces(self) -> None:
        text = '<m:mod xmlns:m="urn:x" id="a"><m:need id="b"/><m:need id="c">x</m:need></m:mod>'
        self.assertEqual(
            read(text, "xml"), {"mod": {"@id": "a", "need": [{"@id": "b"}, {"@id": "c", "#text": "x"}]}}
        )  # fmt: skip

    def test_what_is_hostile_is_refused(self) -> None:
        entities = '<!DOCTYPE m [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><m>&b;</m>'
        for form, text in (
            ("json", '{"id":' + "[" * 100_000),
            ("json", "[" * 60 + "]" * 60),
            ("toml", "a = " + "[" * 9_000),
            ("xml", "<a>" * 5_000 + "</a>" * 5_000),
            ("xml", entities),
            ("xml", "<mod>"),
            ("json", '{"id": "x" "y"}'),
            ("json", '{"id": "' + "x" * MOST_BYTES + '"}'),
        ):
            with self.subTest(f"{form}: {text[:30]}"), self.assertRaises(NotReadable):
                read(text, form)

    @given(st.sampled_from(sorted(FILE_FORMS)), st.binary(max_size=200))
    def test_any_bytes_are_read_or_refused(self, form: FileForm, content: bytes) -> None:
        try:
            read_own_file(content, form)
        except NotReadable:
            pass


if __name__ == "__main__":
    unittest.main()
