"""Names of members in an encoding that the archive does not state."""

from __future__ import annotations

from collections.abc import Sequence

UTF8 = "utf-8"
_ZIP_DEFAULT = "cp437"
# What archivers of many years wrote without saying so, the rest of the world first.
_LEGACY = ("cp932", "gbk", "big5", "cp949", "cp1251", "cp866", "cp1250", "cp1252", "cp437")


def guess_encoding(names: Sequence[bytes]) -> str:
    """Return the most plausible encoding of these names (none is ASCII).

    UTF-8 where they can be that: no other encoding's text is valid UTF-8 by chance for long. Else the
    likeliest of the old ones by their letters; ``cp437``, the zip format's own, where nothing tells.
    """
    joined = b"\n".join(names)
    if _decodes(joined, UTF8):
        return UTF8
    from charset_normalizer import from_bytes

    found = from_bytes(joined, cp_isolation=list(_LEGACY)).best()
    return found.encoding if found else _ZIP_DEFAULT


def decode(name: bytes, encoding: str) -> str:
    """Return a name as text; U+FFFD stands for bytes that the encoding does not have."""
    return name.decode(encoding or UTF8, "replace")


def _decodes(content: bytes, encoding: str) -> bool:
    try:
        content.decode(encoding)
    except UnicodeDecodeError:
        return False
    return True
