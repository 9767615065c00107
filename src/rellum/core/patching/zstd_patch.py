"""Patches by Zstandard (RFC 8878) with the old file as reference: the prefix of the new one."""

from __future__ import annotations

from typing import BinaryIO

from rellum.core.patching.mapped import Content, let_go
from rellum.core.patching.model import PatchFault
from rellum.core.zstandard import zstd

_LARGEST_WINDOW_LOG = 31
_CHUNK_BYTES = 1 << 20
_PACKED_BYTES = 1 << 20
MOST_SOURCE_BYTES = 1 << 31


def apply_zstd(source: Content, delta: Content, out: BinaryIO, name: str, most_bytes: int) -> None:
    """Write what a patch makes of a file. Raises PatchFault; ``name`` stands for the patch.

    ``most_bytes`` bounds what may come out. The format looks back over the whole old file, so that it
    is in memory, and as much again of what comes out; it goes no further than 2 GiB.
    """
    if len(source) > MOST_SOURCE_BYTES:
        raise PatchFault(
            f"{name}: goes over a file of {len(source):,} bytes, and patches of this form reach no "
            f"further than {MOST_SOURCE_BYTES:,}",
            hint="Make it as VCDIFF.",
        )
    library = zstd()
    options = {int(library.DecompressionParameter.window_log_max): _LARGEST_WINDOW_LOG}
    # A dictionary has at least eight bytes; a shorter file is no help and was none to the encoder.
    prefix = library.ZstdDict(source, is_raw=True).as_prefix if len(source) >= 8 else None
    let_go(source)  # the dictionary has a copy
    decoder = library.ZstdDecompressor(zstd_dict=prefix, options=options)
    size = at = 0
    try:
        while not decoder.eof:
            packed = b""
            if decoder.needs_input:
                packed = delta[at : at + _PACKED_BYTES]
                at += len(packed)
                if not packed:
                    raise PatchFault(f"{name}: is truncated")
            piece = decoder.decompress(packed, _CHUNK_BYTES)
            size += len(piece)
            if size > most_bytes:
                raise PatchFault(f"{name}: would make more than {most_bytes:,} bytes")
            out.write(piece)
    except library.ZstdError as error:
        raise PatchFault(
            f"{name}: cannot be applied ({error})",
            hint="It is damaged, or for another version of the file.",
        ) from error
    if decoder.unused_data or at < len(delta):
        raise PatchFault(f"{name}: has bytes behind its end")
