"""The least that a player's update can take: what no program that verifies can leave out, and no more.

``python -m benchmarks.sharing_least ADDRESS BYTES`` verifies a feed's metadata by The Update Framework,
fetches the newest delta, hashes it, and writes and flushes so many bytes in files of 1 MiB. Left out is all
that the program does besides: unpacking, originals kept, the shelf's archives rebuilt and checked, the plan,
the journal, the output.
"""

from __future__ import annotations

import os
import sys
import tempfile

from blake3 import blake3

from rellum.core.feed.addresses import reader_of
from rellum.core.feed.trusting import believe


def main() -> None:
    """Verify, fetch, write, flush."""
    address, size = sys.argv[1], int(sys.argv[2])
    reader = reader_of(address)
    with tempfile.TemporaryDirectory(dir=".") as work:
        believed = believe(reader, work, lambda _: True)
        [offer] = believed.newest.deltas
        hasher = blake3()
        content = bytearray()
        for piece in reader.stream(f"deltas/{offer.name}.delta"):
            hasher.update(piece)
            content += piece
        if hasher.hexdigest() != offer.name:
            raise ValueError("another delta came")
        for number in range(size >> 20):
            with open(os.path.join(work, f"{number}.dat"), "wb") as file:
                file.write(content[: 1 << 20])
        os.sync()


if __name__ == "__main__":
    main()
