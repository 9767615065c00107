"""Damage archives at random and read them: ``python -m tools.fuzz_archives SECONDS SEED [KINDS]``.

Each round takes an archive of the zoo, damages it (bytes flipped, cut, repeated, numbers set to
extremes) and lists, checks and unpacks it. Only clear errors may come of it; what is unpacked must lie
in its folder, and no round may take long or much memory. Needs zip, 7z, tar and zstd.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import tempfile

from rellum.core.archives.model import Extraction
from rellum.core.archives.open import open_archive
from tools.fuzzing import Round, damaged, fuzz

_COMMANDS = (
    "zip -qr a.zip in", "zip -qr -0 b.zip in", "7z a -bd c.7z in", "7z a -bd -m0=lzma d.7z in",
    "7z a -bd -m0=ppmd e.7z in", "7z a -bd -m0=bzip2 -ms=off f.7z in", "7z a -bd -mhc=off g.7z in",
    "tar cf h.tar in", "tar --format=pax -cf i.tar in", "tar --format=v7 -cf j.tar in",
    "tar czf k.tgz in", "tar cJf l.txz in", "tar cjf m.tbz in", "tar c in | zstd -q > n.tar.zst",
    "zip -qr -s 64k o.zip in", "7z a -bd -m0=BCJ -m1=LZMA2 p.7z in", "7z a -bd -m0=BCJ2 q.7z in",
    "7z a -bd -m0=Delta:4 -m1=LZMA2 r.7z in", "7z a -bd -m0=ARM -m1=LZMA s.7z in",
    "7z a -bd -m0=Deflate t.7z in", "7z a -bd -m0=Deflate64 u.7z in",
)  # fmt: skip


def make_zoo(folder: str, kinds: str) -> list[tuple[str, bytes]]:
    """Return an archive of each kind, with its name; ``kinds`` are first letters of names."""
    source = random.Random(1)
    for name in ("a.txt", "d/b.dat", "d/e/c.dat", "d/e/long name that is long.ini"):
        path = os.path.join(folder, "in", name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(source.randbytes(3000) * source.randint(1, 12))
    for command in _COMMANDS:
        subprocess.run(command, shell=True, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    names = sorted(name for name in os.listdir(folder) if name != "in" and name[0] in kinds)
    zoo: list[tuple[str, bytes]] = []
    for name in names:
        with open(os.path.join(folder, name), "rb") as file:
            zoo.append((name, file.read()))
    return zoo


def read(path: str, folder: str) -> None:
    """List, check and unpack an archive. Raises ArchiveFault."""
    archive = open_archive(path)
    members = archive.check()
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


def main() -> int:
    """Fuzz for a time; 1 where something other than a clear error came of it."""
    with tempfile.TemporaryDirectory() as folder:
        zoo = make_zoo(folder, sys.argv[3] if len(sys.argv) > 3 else "abcdefghijklmnopqrstu")
        path, out = os.path.join(folder, "damaged"), os.path.join(folder, "out")

        def make(source: random.Random) -> Round:
            kind, whole = source.choice(zoo)
            content = damaged(whole, source)
            with open(path, "wb") as file:
                file.write(content)
            shutil.rmtree(out, ignore_errors=True)
            os.makedirs(out)
            return Round(kind, content, lambda: read(path, out))

        return fuzz(make)


if __name__ == "__main__":
    sys.exit(main())
