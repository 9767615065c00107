"""Making patches: the other way round of what this package applies. Each is proven by applying it."""

from __future__ import annotations

import difflib
import io
from collections.abc import Iterator, Sequence

from rellum.core.patching.model import PatchFault
from rellum.core.patching.unified import patch_text
from rellum.core.patching.zstd_patch import MOST_SOURCE_BYTES, apply_zstd
from rellum.core.zstandard import zstd

_LEVEL = 9
_NO_END = b"\\ No newline at end of file\n"
_MOST_DIFF_BYTES = 4 << 20
"""Beyond this, comparing texts line by line takes minutes."""


def make_zstd(source: bytes, target: bytes) -> bytes | None:
    """Return a patch with the old file as reference (RFC 8878); None where the form does not reach so far."""
    if len(source) > MOST_SOURCE_BYTES or len(source) < 8:
        return None
    library = zstd()
    parameters = library.CompressionParameter
    options = {
        int(parameters.compression_level): _LEVEL,
        int(parameters.window_log): _window_log(len(source) + len(target)),
        int(parameters.enable_long_distance_matching): 1,
        int(parameters.checksum_flag): 1,
    }
    prefix = library.ZstdDict(source, is_raw=True).as_prefix
    delta: bytes = library.compress(target, options=options, zstd_dict=prefix)
    out = io.BytesIO()
    apply_zstd(source, delta, out, "the new patch", len(target))
    return delta if out.getvalue() == target else None


def _window_log(reach: int) -> int:
    """Return the window that looks back over the whole old file: a power of two."""
    return min(31, max(10, (reach - 1).bit_length()))


def make_diff(source: bytes, target: bytes) -> bytes | None:
    """Return a unified diff (POSIX); None where one of the two is no text, or both are the same."""
    if max(len(source), len(target)) > _MOST_DIFF_BYTES:
        return None
    try:
        source.decode("utf-8"), target.decode("utf-8")
    except UnicodeDecodeError:
        return None
    if source == target or b"\0" in source + target:
        return None
    old, new = source.splitlines(keepends=True), target.splitlines(keepends=True)
    lines = difflib.diff_bytes(difflib.unified_diff, old, new, b"before", b"after")
    delta = b"".join(_with_ends(list(lines)))
    try:
        return delta if patch_text(source, delta, "the new diff", 0) == target else None
    except PatchFault:  # a text of another kind of lines
        return None


def _with_ends(lines: Sequence[bytes]) -> Iterator[bytes]:
    for line in lines:
        yield line
        if not line.endswith(b"\n"):
            yield b"\n" + _NO_END
