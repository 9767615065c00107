"""The newest version that a page or a feed tells of a mod."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

from rellum.core.catalog.model import NewsSource
from rellum.core.describing.own_files import FileForm, NotReadable, read_own_file
from rellum.core.describing.own_words import at_keys, text_of
from rellum.core.versions.orderings import LISTED, Ordering, parse_version
from rellum.core.versions.version import Version, VersionSyntaxError

_SECONDS: Final = 2.0
_MOST_TEXTS: Final = 2000


class FormChanged(ValueError):
    """A page that does not tell a version as the card says that it does."""


class Published(NamedTuple):
    """The newest version that is published. ``version`` None: its names have no order but the card's."""

    text: str
    version: Version | None


def newest_published(source: NewsSource, content: bytes, ordering: Ordering) -> Published:
    """Return the newest version that a page tells. Pre-releases count only where nothing else is told.

    Raises FormChanged.
    """
    texts = list(_texts(source, content))
    if not texts:
        raise FormChanged("it tells no version as the card says: it may have changed its form")
    if ordering.scheme == LISTED:
        return Published(texts[0], None)
    versions = list(_versions(texts, ordering))
    if not versions:
        raise FormChanged(f"{texts[0][:40]!r} is not a version")
    finished = [each for each in versions if not each.is_prerelease]
    newest = max(finished or versions)
    return Published(newest.text, newest)


def _versions(texts: Iterable[str], ordering: Ordering) -> Iterator[Version]:
    for text in texts:
        try:
            yield parse_version(text, ordering)
        except VersionSyntaxError:
            continue


def _texts(source: NewsSource, content: bytes) -> Iterator[str]:
    """Yield what stands where the card says that versions do."""
    if source.form == "text":
        yield from _matches(source.pattern, content.decode("utf-8", "replace"))
        return
    try:
        document = read_own_file(content, FileForm(source.form))
    except NotReadable as error:
        raise FormChanged(f"{error}: the page may have changed its form") from error
    for number, value in enumerate(at_keys(document, source.keys)):
        text = text_of(value)
        if text and number < _MOST_TEXTS:
            yield from _matches(source.pattern, text) if source.pattern else (text,)


def _matches(pattern: str, text: str) -> Iterator[str]:
    import regex

    try:
        for number, match in enumerate(
            regex.finditer(pattern, text, regex.MULTILINE, timeout=_SECONDS)
        ):
            if match["version"] and number < _MOST_TEXTS:
                yield match["version"].strip()
    except TimeoutError as error:
        raise FormChanged("the pattern of its card takes too long on it") from error
