"""Damage archives at random and read them: ``python -m tools.fuzz_archives SECONDS SEED [KINDS]``.

Each round takes an archive of the zoo, damages it (bytes flipped, cut, repeated, numbers set to
extremes) and lists, checks and unpacks it. Only clear errors may come of it; what is unpacked must lie
in its folder, and no round may take long or much memory. Needs zip, 7z, tar and zstd.
"""

from __future__ import annotations

import os
import random
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter

from rellum.core.archives.model import Extraction
from rellum.core.archives.open import open_archive
from rellum.core.errors import UserError

_COMMANDS = (
    "zip -qr a.zip in", "zip -qr -0 b.zip in", "7z a -bd c.7z in", "7z a -bd -m0=lzma d.7z in",
    "7z a -bd -m0=ppmd e.7z in", "7z a -bd -m0=bzip2 -ms=off f.7z in", "7z a -bd -mhc=off g.7z in",
    "tar cf h.tar in", "tar --format=pax -cf i.tar in", "tar --format=v7 -cf j.tar in",
    "tar czf k.tgz in", "tar cJf l.txz in", "tar cjf m.tbz in", "tar c in | zstd -q > n.tar.zst",
    "zip -qr -s 64k o.zip in", "7z a -bd -m0=BCJ -m1=LZMA2 p.7z in", "7z a -bd -m0=BCJ2 q.7z in",
    "7z a -bd -m0=Delta:4 -m1=LZMA2 r.7z in", "7z a -bd -m0=ARM -m1=LZMA s.7z in",
    "7z a -bd -m0=Deflate t.7z in", "7z a -bd -m0=Deflate64 u.7z in",
)  # fmt: skip
SLOW_SECONDS = 10.0
MOST_MEGABYTES = 2000


def make_zoo(folder: str, kinds: str) -> list[bytes]:
    """Return one archive of each kind, of the same small files; ``kinds`` are first letters of names."""
    source = random.Random(1)
    for name in ("a.txt", "d/b.dat", "d/e/c.dat", "d/e/long name that is long.ini"):
        path = os.path.join(folder, "in", name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(source.randbytes(3000) * source.randint(1, 12))
    for command in _COMMANDS:
        subprocess.run(command, shell=True, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    names = sorted(name for name in os.listdir(folder) if name != "in" and name[0] in kinds)
    zoo = []
    for name in names:
        with open(os.path.join(folder, name), "rb") as file:
            zoo.append(file.read())
    return zoo


def damaged(content: bytes, source: random.Random) -> bytes:
    """Return an archive with some damage, most of it where lists of members are: at the ends."""
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


def read(path: str, folder: str) -> str:
    """List, check and unpack an archive; return what came of it in a word."""
    try:
        archive = open_archive(path)
        members = archive.check()
    except UserError as error:
        return "refused" if error.summary else "SILENT"
    jobs = [
        Extraction(
            member=member.path,
            digest=member.digest,
            target=os.path.join(folder, str(number)),
            mode=0o600,
        )
        for number, member in enumerate(members)
    ]
    archive.extract(jobs)
    return "read"


def main() -> int:
    """Fuzz for a time; 1 where something other than a clear error came of it."""
    seconds, seed = float(sys.argv[1]), int(sys.argv[2])
    source = random.Random(seed)
    count: Counter[str] = Counter()
    faults = 0
    with tempfile.TemporaryDirectory() as folder:
        zoo = make_zoo(folder, sys.argv[3] if len(sys.argv) > 3 else "abcdefghijklmnopqrstu")
        path = os.path.join(folder, "damaged")
        ends = time.monotonic() + seconds
        while time.monotonic() < ends:
            content = damaged(source.choice(zoo), source)
            with open(path, "wb") as file:
                file.write(content)
            out = os.path.join(folder, "out")
            os.makedirs(out)
            began = time.monotonic()
            try:
                word = read(path, out)
            except Exception as error:
                word = f"{type(error).__name__}: {error}"[:120]
            if time.monotonic() - began > SLOW_SECONDS:
                word = "SLOW"
            count[word] += 1
            if word not in ("refused", "read"):
                faults += 1
                shutil.copy(path, f"fuzz-fault-{seed}-{faults}")
            shutil.rmtree(out)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    for word, number in count.most_common():
        print(f"{number:8,}  {word}")
    print(f"peak memory {peak:,.0f} MB, seed {seed}")
    return 1 if faults or peak > MOST_MEGABYTES else 0


if __name__ == "__main__":
    sys.exit(main())
