"""Apply real diffs between releases of real packages, and compare with GNU patch.

``python -m tools.real_diffs NAME OLD NEW [NAME OLD NEW ...]`` gets two releases of a package from the
package index that pip is set up for, makes a unified diff of every text file that changed, and
applies it by Rellum and by GNU patch: to the old file, to the old file with lines before it (so that
hunks stand at an offset), to the file with CRLF ends, and without the newline at its end. Prints how
many cases there were and in how many the two differ; exit status 1 if any does.
"""

from __future__ import annotations

import difflib
import os
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator

from rellum.core.patching.model import PatchFault
from rellum.core.patching.unified import apply_diff, read_diff

Files = dict[str, bytes]


def main() -> int:
    """Compare all packages named."""
    words = sys.argv[1:]
    total = differing = refused = 0
    for name, old, new in zip(words[::3], words[1::3], words[2::3], strict=True):
        cases = list(cases_of(release(name, old), release(name, new)))
        for label, before, diff in cases:
            ours, theirs = by_rellum(before, diff), by_patch(before, diff)
            refused += ours is None
            if ours != theirs:
                differing += 1
                print(f"{name} {old} to {new}: {label} differs", file=sys.stderr)
        total += len(cases)
        print(f"{name} {old} to {new}: {len(cases)} cases")
    print(f"{total} cases, {refused} refused by both, {differing} differ")
    return 1 if differing else 0


def release(name: str, version: str) -> Files:
    """Return the files of a package's release."""
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "pip", "download", "-q", "--no-deps"]
        only = ["--only-binary=:all:", "-d", folder, f"{name}=={version}"]
        subprocess.run([*command, *only], check=True, capture_output=True)
        [wheel] = os.listdir(folder)
        with zipfile.ZipFile(os.path.join(folder, wheel)) as archive:
            return {each: archive.read(each) for each in archive.namelist() if each[-1] != "/"}


def cases_of(old: Files, new: Files) -> Iterator[tuple[str, bytes, bytes]]:
    """Yield a label, a file and a diff, for all kinds of cases of each text file that changed."""
    for path in sorted(old.keys() & new.keys()):
        before, after = old[path], new[path]
        if before == after or b"\0" in before + after:
            continue
        diff = unified(before, after)
        yield f"{path} plain", before, diff
        yield f"{path} at an offset", b"one more line\n" * 7 + before, diff
        crlf = [each.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n") for each in (before, after)]
        yield f"{path} with CRLF", crlf[0], unified(*crlf)
        short = [each.rstrip(b"\n") for each in (before, after)]
        yield f"{path} without a newline at its end", short[0], unified(*short)
        yield f"{path} applied twice", after, diff


def unified(before: bytes, after: bytes) -> bytes:
    """Return a unified diff as ``diff -u`` writes it."""
    pieces = []
    old, new = (split_lines(each.decode("latin-1")) for each in (before, after))
    for line in difflib.unified_diff(old, new, "a/file", "b/file"):
        pieces.append(line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n")
    return "".join(pieces).encode("latin-1")


def split_lines(text: str) -> list[str]:
    """Return the lines with their ends: only a line feed ends a line in a diff."""
    lines = text.split("\n")
    return [f"{line}\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])


def by_rellum(before: bytes, diff: bytes) -> bytes | None:
    """Return what Rellum makes; None where it refuses."""
    try:
        return apply_diff(before, read_diff(diff, "diff")[0], "diff", 0).content
    except PatchFault:
        return None


def by_patch(before: bytes, diff: bytes) -> bytes | None:
    """Return what GNU patch makes without fuzz; None where it refuses."""
    with tempfile.TemporaryDirectory() as folder:
        file = os.path.join(folder, "file")
        with open(file, "wb") as stream:
            stream.write(before)
        command = [
            "patch",
            "-s",
            "-F0",
            "-N",
            "--binary",
            "-r",
            "-",
            "--no-backup-if-mismatch",
            file,
        ]
        result = subprocess.run(command, input=diff, capture_output=True, check=False)
        if result.returncode:
            return None
        with open(file, "rb") as stream:
            return stream.read()


if __name__ == "__main__":
    sys.exit(main())
