"""Writing a value into the file in which a mod describes itself, in whatever form, and nothing else of it.

The text of the old value is replaced where it stands, and the file is read again: only the place counts at
which everything else is as it was. So comments, order and layout stay, and no writer is needed for any form.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Final

from rellum.core.catalog.self_descriptions import SelfDescription
from rellum.core.describing.own_files import FileForm, NotReadable, read_own_file
from rellum.core.describing.own_words import OwnWords, at_keys, own_words_in, text_of
from rellum.core.errors import UserError

_MOST_PLACES: Final = 500
_UUID: Final = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.IGNORECASE)


class CannotWriteValue(UserError):
    """A value in a mod's own description cannot be changed by a program."""

    code = "cannot-write-value"


def with_version(
    description: SelfDescription, words: OwnWords, content: bytes, version: str
) -> bytes:
    """Return a description that tells another version. Raises CannotWriteValue."""
    if not words.version:
        raise CannotWriteValue(
            f"{words.file} tells no version",
            hint=f'Write one into it, e.g. "{version}", where the game looks for it.',
        )
    expected = replace(words, version=version)

    def is_right(text: bytes) -> bool:
        return _words(description, words.file, text) == expected

    for text in _replaced(content, words.version, version):
        if is_right(text):
            return text
    raise CannotWriteValue(
        f"{words.version} in {words.file} cannot be made {version} without touching more",
        hint="Change it there by hand, then press again.",
    )


def identity_of(description: SelfDescription, content: bytes) -> tuple[str, ...]:
    """Return the values by which a game tells this mod from all others; none where the sheet names none."""
    try:
        document = read_own_file(content, FileForm(description.form))
    except NotReadable:
        return ()
    found = (text_of(each) for way in description.identity for each in at_keys(document, way))
    return tuple(filter(None, found))


def with_fresh_identity(
    description: SelfDescription,
    file: str,
    content: bytes,
    fresh: Callable[[], uuid.UUID] = uuid.uuid4,
) -> bytes:
    """Return a description with new identifiers; one that stands there twice stays one.

    Only UUIDs (RFC 9562) can be made anew: what another kind of identifier means, its author knows. Raises
    CannotWriteValue.
    """
    for value in dict.fromkeys(identity_of(description, content)):
        if not _UUID.fullmatch(value):
            raise CannotWriteValue(
                f"the identifier {value!r} in {file} is no UUID",
                hint="Give it another one by hand, then press again.",
            )
        new = str(fresh())
        written = new.upper() if value.upper() == value else new
        content = content.replace(value.encode("utf-8"), written.encode("utf-8"))
    return content


def _words(description: SelfDescription, file: str, content: bytes) -> OwnWords | None:
    found = own_words_in([description], [file], lambda _: content)
    return found[0] if found else None


def _replaced(content: bytes, old: str, new: str) -> Iterator[bytes]:
    """Yield the content with the old text replaced at one place after another."""
    before, after = old.encode("utf-8"), new.encode("utf-8")
    at = content.find(before)
    for _ in range(_MOST_PLACES):
        if at < 0:
            return
        yield content[:at] + after + content[at + len(before) :]
        at = content.find(before, at + 1)
