"""The main job on archives that nobody here made: ``python -m tools.real_input OLD NEW``.

OLD and NEW are two zip archives, for example two releases of one wheel. OLD is unpacked as the
game folder and adopted; NEW is taken and laid over it; every file is compared with NEW's own (and
what only OLD has, with OLD's); then everything is restored and compared with OLD, byte for byte.
"""

from __future__ import annotations

import os
import sys
import tempfile
import zipfile

from benchmarks.worlds import BenchWorld
from tests.support import snapshot

Files = dict[str, bytes]


def files_of(archive: str) -> Files:
    """Return a zip's files by path."""
    with zipfile.ZipFile(archive) as opened:
        return {info.filename: opened.read(info) for info in opened.infolist() if not info.is_dir()}


def compare(game: str, expected: Files) -> int:
    """Print and count the files that are not as expected, other than Rellum's marker."""
    found = {
        path: entry.content for path, entry in snapshot(game).items() if entry.content is not None
    }
    found.pop(".rellum-owner.toml", None)
    expected = {**expected, "version.txt": b"version: 1.0.0\n"}
    wrong = sorted(
        path for path in found.keys() | expected.keys() if found.get(path) != expected.get(path)
    )
    print(f"  compared {len(expected):,} files, {sum(map(len, expected.values())):,} bytes; "
          f"{len(wrong)} differ {wrong[:3] or ''}")  # fmt: skip
    return len(wrong)


def main() -> int:
    """Play the two archives through adopt, take, apply, check, restore; 1 if a file differs."""
    old_path, new_path = sys.argv[1:3]
    old, new = files_of(old_path), files_of(new_path)
    same = sum(old.get(path) == content for path, content in new.items())
    replaced = sum(path in old for path in new) - same
    print(f"old {len(old):,} files, new {len(new):,}: {replaced:,} replaced, {same:,} the same")
    with tempfile.TemporaryDirectory() as root:
        world = BenchWorld(root, os.path.join(os.path.dirname(sys.executable), "rellum"))
        os.environ["RELLUM_SHELF"] = world.path("shelf")
        os.environ["RELLUM_CACHE"] = world.path("cache")
        with zipfile.ZipFile(old_path) as opened:
            opened.extractall(world.path("game"))
        before = snapshot(world.path("game"), times=True)
        world.add_card("newer", new_path, 'to = "@game/"')
        for words in (
            "adopt ../game",
            f"take {os.path.abspath(new_path)}",
            "want newer",
            "resolve",
        ):
            world.run(*words.split())
        world.run("apply", "--yes")
        world.run("check", "--deep")
        print("applied and checked")
        wrong = compare(world.path("game"), {**old, **new})
        world.run("restore", "--all", "--yes")
        print("restored")
        wrong += compare(world.path("game"), old)
        same_tree = snapshot(world.path("game"), times=True) == before
        print(f"  names, content, modes and times {'as before' if same_tree else 'NOT as before'}")
        world.run("check", "--deep")
    return 1 if wrong or not same_tree else 0


if __name__ == "__main__":
    sys.exit(main())
