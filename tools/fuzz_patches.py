"""Damage patches and settings files, and apply them: ``python -m tools.fuzz_patches SECONDS SEED``.

Diffs, VCDIFF and zstd deltas as the real encoders write them, JSON patches, settings of every form. Needs
diff, xdelta3 and zstd.
"""

from __future__ import annotations

import io
import json
import os
import random
import subprocess
import sys
import tempfile
from collections.abc import Callable

from rellum.core.patching.json_patch import merge_json, patch_json
from rellum.core.patching.keys import edit_keys, read_keys
from rellum.core.patching.merge import merge_settings
from rellum.core.patching.model import Setting, SettingsForm
from rellum.core.patching.unified import apply_diff, read_diff
from rellum.core.patching.vcdiff import apply_vcdiff
from rellum.core.patching.zstd_patch import apply_zstd
from tools.fuzzing import Round, damaged, fuzz

MOST_BYTES = 1 << 26
TEXTS: dict[SettingsForm, bytes] = {
    "ini": b"; sea\n[window]\nwide = yes\nheight=3\n\n[sound]\nlevel = 0.5\n",
    "properties": b"# sea\nwide=yes\nsound.level=0.5\ntide = high\n",
    "json": b'{"window": {"wide": true, "height": 3}, "list": [1, 2, {"a": null}]}',
    "toml": b'[window]\nwide = true\nheights = [1, 2]\n[[lamp]]\nname = "a"\n',
}
OPERATIONS = [
    {"op": "replace", "path": "/window/height", "value": 4},
    {"op": "add", "path": "/list/-", "value": {"b": [1]}},
    {"op": "copy", "from": "/list", "path": "/window/list"},
    {"op": "test", "path": "/window/wide", "value": True},
    {"op": "remove", "path": "/list/2/a"},
]


def make_patches(folder: str) -> dict[str, tuple[bytes, bytes]]:
    """Return for each tool what it patches, and its patch."""
    source = random.Random(1)
    lines = [b"line %d %d\n" % (number, source.randrange(99)) for number in range(300)]
    old = b"".join(lines)
    for number in (3, 4, 90, 200, 299):
        lines[number] = b"other %d\n" % number
    for name, content in (
        ("old", old),
        ("new", b"".join(lines[:250] + lines[40:60] + lines[250:])),
    ):
        with open(os.path.join(folder, name), "wb") as file:
            file.write(content)

    def run(command: str) -> bytes:
        return subprocess.run(command, shell=True, cwd=folder, stdout=subprocess.PIPE).stdout

    return {
        "diff": (old, run("diff -u old new")),
        "vcdiff": (old, run("xdelta3 -e -f -S none -c -s old new")),
        "zstd": (old, run("zstd -q -f --patch-from old new -c")),
    }


def main() -> int:
    """Fuzz for a time; 1 where something other than a clear error came of it."""
    with tempfile.TemporaryDirectory() as folder:
        patches = make_patches(folder)

    def diff(patch: bytes) -> None:
        for each in read_diff(patch, "a.diff"):
            apply_diff(patches["diff"][0], each, "a.diff", 2)

    def binary(apply: Callable[..., None], old: bytes) -> Callable[[bytes], None]:
        return lambda patch: apply(old, patch, io.BytesIO(), "a.delta", MOST_BYTES)

    readers: dict[str, Callable[[bytes], object]] = {
        "diff": diff,
        "vcdiff": binary(apply_vcdiff, patches["vcdiff"][0]),
        "zstd": binary(apply_zstd, patches["zstd"][0]),
        "json patch": lambda patch: patch_json(TEXTS["json"], patch, "a.json"),
        "json merge": lambda patch: merge_json(TEXTS["json"], patch, "a.json"),
        "json patched": lambda text: patch_json(text, json.dumps(OPERATIONS).encode(), "a.json"),
    }
    wholes = {name: patch for name, (_, patch) in patches.items()}
    wholes |= {"json patch": json.dumps(OPERATIONS).encode(), "json merge": TEXTS["json"]}
    wholes["json patched"] = TEXTS["json"]

    def make(source: random.Random) -> Round:
        if source.random() < 0.5:
            kind = source.choice(sorted(readers))
            content = damaged(wholes[kind], source)
            return Round(kind, content, lambda: readers[kind](content))
        form = source.choice(sorted(TEXTS))
        content = damaged(TEXTS[form], source)
        if source.random() < 0.5:
            whole = TEXTS[form]
            return Round(
                f"{form} merged",
                content,
                lambda: merge_settings(whole, content, whole, form, "mine", "a"),
            )
        settings: list[Setting] = [(("window", "wide"), "no"), (("depth",), 3)]
        if form == "properties":
            settings = [(("wide",), "no"), (("depth",), 3)]
        edit = source.random() < 0.5
        return Round(
            form,
            content,
            lambda: (
                edit_keys(content, form, settings, "a") if edit else read_keys(content, form, "a")
            ),
        )

    return fuzz(make)


if __name__ == "__main__":
    sys.exit(main())
