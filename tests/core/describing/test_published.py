"""The newest version that a page or a feed tells."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.catalog.model import NewsSource
from rellum.core.describing.published import FormChanged, newest_published
from rellum.core.versions.orderings import DOTTED, LISTED, Ordering

ATOM = (
    '<feed xmlns="http://www.w3.org/2005/Atom"><title>Fog</title>{}</feed>',
    "<entry><title>Fog {}</title></entry>",
)
RSS = (
    '<rss version="2.0"><channel><title>Fog 9.9</title>{}</channel></rss>',
    "<item><title>Fog {}</title></item>",
)


def source(form: str, *keys: str, pattern: str = "") -> NewsSource:
    return NewsSource(
        url="https://a.invalid/", page="", form=form, keys=tuple(keys), pattern=pattern
    )


NUMBER = r"(?P<version>[0-9][0-9a-z.-]*)$"
versions = st.lists(
    st.lists(st.integers(0, 30), min_size=2, max_size=3).map(tuple), min_size=1, max_size=6
)


class PublishedTest(unittest.TestCase):
    @given(versions)
    def test_the_newest_of_all_forms(self, said: list[tuple[int, ...]]) -> None:
        texts = [".".join(map(str, each)) for each in said]
        newest = max(said, key=lambda each: (*each, 0, 0)[:3])
        samples = {
            source("xml", "feed", "entry", "title", pattern=NUMBER): ATOM,
            source("xml", "rss", "channel", "item", "title", pattern=NUMBER): RSS,
            source("json", "files", "v"): ('{{"files": [{}{{"v": null}}]}}', '{{"v": "{}"}},'),
            source("text", pattern=r"<b>(?P<version>[0-9.]+)</b>"): ("<p>{}</p>", "<b>{}</b>\n"),
        }
        for where, (page, item) in samples.items():
            content = page.format("".join(item.format(each) for each in texts))
            found = newest_published(where, content.encode(), DOTTED)
            parts = tuple(map(int, found.text.split(".")))
            self.assertEqual((*parts, 0, 0)[:3], (*newest, 0, 0)[:3], content)

    def test_finished_releases_come_first(self) -> None:
        where = source("text", pattern=r"Fog (?P<version>\S+)")
        self.assertEqual(newest_published(where, b"Fog 2.0-beta Fog 1.9", DOTTED).text, "1.9")
        self.assertEqual(newest_published(where, b"Fog 2.0-beta", DOTTED).text, "2.0-beta")

    def test_names_keep_the_order_of_the_page(self) -> None:
        where = source("text", pattern=r"Fog (?P<version>\w+)")
        found = newest_published(where, b"Fog dawn, Fog dusk", Ordering(LISTED, ("dusk",)))
        self.assertEqual((found.text, found.version), ("dawn", None))

    def test_a_page_that_changed_its_form(self) -> None:
        for where, content in (
            (source("text", pattern=r"Fog (?P<version>[0-9.]+)"), b"<html>all new</html>"),
            (source("xml", "feed", "entry", "title"), b"<html><body></html>"),
            (source("xml", "feed", "entry", "title"), b'<!DOCTYPE x [<!ENTITY a "1">]><feed/>'),
            (source("json", "a"), b"[" * 100_000),
            (source("json", "a"), b'{"a": [{}, true, null]}'),
            (source("json", "a"), b'{"a": "no version at all!"}'),
            (source("text", pattern=r"(?P<version>(a+)+)$"), b"a" * 40_000 + b"!"),
        ):
            with self.subTest(content[:30]), self.assertRaises(FormChanged):
                newest_published(where, content, DOTTED)

    @given(st.sampled_from(["json", "xml"]), st.binary(max_size=100))
    def test_any_bytes_are_read_or_refused(self, form: str, content: bytes) -> None:
        try:
            newest_published(source(form, "a"), content, DOTTED)
        except FormChanged:
            pass


if __name__ == "__main__":
    unittest.main()
