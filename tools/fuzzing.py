"""What the fuzzing tools share: damage, and a loop that counts, times and keeps what went wrong."""

from __future__ import annotations

import random
import resource
import sys
import time
from collections import Counter
from collections.abc import Callable
from typing import NamedTuple

from rellum.core.errors import RellumError

SLOW_SECONDS = 10.0
MOST_MEGABYTES = 2000


class Round(NamedTuple):
    """One thing to read: what reads it, and its bytes, which are kept where something goes wrong."""

    kind: str
    content: bytes
    read: Callable[[], object]


def damaged(content: bytes, source: random.Random) -> bytes:
    """Return a file with some damage, most of it where lists and lengths are: at the ends."""
    changed = bytearray(content)
    for _ in range(source.randint(1, 6)):
        near_end = source.random() < 0.6
        span = min(len(changed), 400)
        at = source.randrange(span) if source.random() < 0.4 else source.randrange(len(changed))
        if near_end:
            at = len(changed) - 1 - source.randrange(span)
        kind = source.randrange(6)
        if kind == 0:
            changed[at] ^= 1 << source.randrange(8)
        elif kind == 1:
            changed[at] = source.choice((0, 1, 0x7F, 0x80, 0xFF))
        elif kind == 2:
            changed[at : at + 4] = source.choice((b"\xff" * 4, b"\0" * 4, b"\xff\xff\xff\x7f"))
        elif kind == 3:
            del changed[at : at + source.randint(1, 40)]
        elif kind == 4:
            changed[at:at] = changed[at : at + source.randint(1, 60)]
        else:
            changed[at : at + 8] = source.randbytes(8)
        if not changed:
            return b"P"
    return bytes(changed)


def fuzz(make: Callable[[random.Random], Round], slow_seconds: float = SLOW_SECONDS) -> int:
    """Make and read things for the seconds and from the seed that the call names; return the exit status.

    Only a value or a clear error may come of a reading, in good time and memory. What went wrong is kept
    in ``fuzz-fault-SEED-NUMBER``.
    """
    seconds, seed = float(sys.argv[1]), int(sys.argv[2])
    source = random.Random(seed)
    count: Counter[str] = Counter()
    faults = 0
    slowest = (0.0, "")
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        round_ = make(source)
        began = time.monotonic()
        try:
            round_.read()
            word = "read"
        except RellumError as error:
            word = "refused" if error.summary else "refused without a word"
        except Exception as error:
            word = f"{type(error).__name__}: {error}"[:120]
        took = time.monotonic() - began
        slowest = max(slowest, (took, round_.kind))
        if took > slow_seconds:
            word = "slow"
        count[f"{word}  {round_.kind}"] += 1
        if word not in ("refused", "read"):
            faults += 1
            with open(f"fuzz-fault-{seed}-{faults}", "wb") as file:
                file.write(round_.content)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    for word, number in count.most_common():
        print(f"{number:8,}  {word}")
    print(
        f"{sum(count.values()):,} rounds, {faults} faults; slowest {slowest[0]:.2f} s ({slowest[1]}),"
        f" peak memory {peak:,.0f} MB, seed {seed}"
    )
    return 1 if faults or peak > MOST_MEGABYTES else 0
