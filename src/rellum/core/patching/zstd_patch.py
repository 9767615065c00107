"""Patches by Zstandard (RFC 8878) with the old file as reference: the prefix of the new one."""

from __future__ import annotations

from rellum.core.patching.model import PatchFault
from rellum.core.zstandard import zstd

_LARGEST_WINDOW_LOG = 31
_CHUNK_BYTES = 8 << 20


def apply_zstd(source: bytes, delta: bytes, name: str, most_bytes: int) -> bytes:
    """Return what a patch makes of a file. Raises PatchFault; ``name`` stands for the patch.

    ``most_bytes`` bounds what may come out.
    """
    library = zstd()
    options = {int(library.DecompressionParameter.window_log_max): _LARGEST_WINDOW_LOG}
    # A dictionary has at least eight bytes; a shorter file is no help and was none to the encoder.
    prefix = library.ZstdDict(source, is_raw=True).as_prefix if len(source) >= 8 else None
    decoder = library.ZstdDecompressor(zstd_dict=prefix, options=options)
    pieces: list[bytes] = []
    size = 0
    try:
        piece = decoder.decompress(delta, _CHUNK_BYTES)
        while True:
            pieces.append(piece)
            size += len(piece)
            if size > most_bytes:
                raise PatchFault(f"{name}: would make more than {most_bytes:,} bytes")
            if decoder.eof:
                break
            if decoder.needs_input:
                raise PatchFault(f"{name}: is cut short")
            piece = decoder.decompress(b"", _CHUNK_BYTES)
    except library.ZstdError as error:
        raise PatchFault(
            f"{name}: cannot be applied ({error})",
            hint="It is damaged, or for another version of the file.",
        ) from error
    if decoder.unused_data:
        raise PatchFault(f"{name}: has bytes behind its end")
    return b"".join(pieces)
