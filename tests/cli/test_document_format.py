"""How JSON documents are printed: the same, whether they are short or long."""

from __future__ import annotations

import json
import unittest

from rellum.cli.document_format import document_text, with_format


class DocumentFormatTest(unittest.TestCase):
    def test_a_long_document_is_printed_as_a_short_one(self) -> None:
        for names in (["mist", 'a "quoted" \\ one', "a\tb\x07"], ["mist", "Über", "霧"]):
            for times in (1, 3_000):
                rows: list[dict[str, object]] = [
                    {
                        "mod": name,
                        "bytes": -7,
                        "laid": None,
                        "is_wanted": True,
                        "files": [],
                        "by": {},
                    }
                    for name in names * times
                ]
                document = {"rows": rows, "ratio": 0.5}
                told = json.dumps(with_format(document), indent=2)
                self.assertEqual(document_text(document), told)


if __name__ == "__main__":
    unittest.main()
