"""Break the code by hand, and see whether a test notices: ``python -m tools.changes_by_hand [WORDS]``.

Each change is one that all tests once let pass. A copy of the checkout is broken, never the checkout
itself; ``WORDS`` choose the changes whose names have them. Ends with 1 where one is not noticed, or does
not fit the code any more.
"""

# ruff: noqa: E501  (pieces of code stand here as they do there)

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from typing import NamedTuple

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))


class Change(NamedTuple):
    """What is broken, where (below ``src/rellum/core``), and the test module that must notice."""

    name: str
    file: str
    old: str
    new: str
    test: str


CHANGES = (
    Change(
        "no copy kept in stepping away",
        "change/planning.py",
        "            keep=changed and laid is not None,\n",
        "            keep=False,\n",
        "core.change.test_planning",
    ),
    Change(
        "no copy kept in unlaying",
        "change/planning.py",
        "            keep=is_the_users,\n",
        "            keep=False,\n",
        "core.composing.test_settings",
    ),
    Change(
        "no copy kept of vanilla changed by hand",
        "change/planning.py",
        "            keep=now is not None,\n            after=native",
        "            keep=False,\n            after=native",
        "core.actions.mend.test_restore",
    ),
    Change(
        "a shared folder set aside",
        "change/setting_aside.py",
        "if is_shared or folder in seen",
        "if folder in seen",
        "core.actions.change.test_game_update",
    ),
    Change(
        "files set aside twice",
        "change/setting_aside.py",
        "is_shared or folder in seen or",
        "is_shared or",
        "core.composing.test_settings",
    ),
    Change(
        "a folder of a mod that stays set aside",
        "change/setting_aside.py",
        "if release is None or release.mod in users.mods:",
        "if release is None:",
        "core.composing.test_settings",
    ),
    Change(
        "laid files set aside",
        "change/setting_aside.py",
        "if path not in known and stat",
        "if stat",
        "core.composing.test_settings",
    ),
    Change(
        "a folder made through a link",
        "change/carry_out.py",
        "        refuse_links_above(roots.folder_of(folder), absolute, good)\n        disk.make_folder(absolute)",
        "        disk.make_folder(absolute)",
        "core.change.test_recovery",
    ),
    Change(
        "a file put through a link",
        "change/carry_out.py",
        "        refuse_links_above(roots.folder_of(step.path), path, good)\n        refuse_links_above(roots.folder_of(step.path), staged, good)",
        "        refuse_links_above(roots.folder_of(step.path), staged, good)",
        "core.change.test_recovery",
    ),
    Change(
        "a staged file taken through a link",
        "change/carry_out.py",
        "        refuse_links_above(roots.folder_of(step.path), staged, good)\n",
        "",
        "core.change.test_recovery",
    ),
    Change(
        "a file changed meanwhile overwritten",
        "change/carry_out.py",
        "        if now != _stamp_of(step.before):\n            raise _unexpected(path)\n        disk.move_over",
        "        disk.move_over",
        "core.change.test_planning",
    ),
    Change(
        "a file changed meanwhile removed",
        "change/carry_out.py",
        "        if now != _stamp_of(step.before):\n            raise _unexpected(path)\n        disk.remove",
        "        disk.remove",
        "core.change.test_planning",
    ),
    Change(
        "an original that comes out not verified",
        "pack/originals.py",
        "        if hash_file(target) != digest:\n            aside",
        "        if False:\n            aside",
        "core.change.test_originals",
    ),
    Change(
        "an original that goes in not verified",
        "pack/originals.py",
        "        if hash_file(incoming) != digest:",
        "        if False:",
        "core.change.test_originals",
    ),
    Change(
        "a file beside a whole original not verified",
        "pack/originals.py",
        "            if hash_file(path) != digest:\n                raise self._changed(path)\n            return kept",
        "            return kept",
        "core.change.test_originals",
    ),
    Change(
        "a copied original not verified",
        "pack/originals.py",
        '        if hash_file(kept + ".new") != digest:',
        "        if False:",
        "core.change.test_originals",
    ),
    Change(
        "a damaged original taken for whole",
        "pack/originals.py",
        "return self.has(digest) and hash_file(self.path_of(digest)) == digest",
        "return self.has(digest)",
        "core.change.test_originals",
    ),
    Change(
        "staged files not flushed",
        "change/execute.py",
        "    flush_files(files, roots, disk)\n",
        "",
        "core.change.test_originals",
    ),
    Change(
        "originals not flushed",
        "change/execute.py",
        "    _flush_originals([*kept_paths, *_put_bases(plan, site, sources)], site)",
        "    _put_bases(plan, site, sources)",
        "core.change.test_originals",
    ),
    Change(
        "folders not flushed",
        "change/carry_out.py",
        '    flush_folders(touched, roots, disk)\n    disk.step("record")',
        '    disk.step("record")',
        "core.change.test_originals",
    ),
    Change(
        "names of staged files not flushed",
        "change/carry_out.py",
        "disk.flush(root, files, [os.path.dirname(files[0]), root])",
        "disk.flush(root, files, [])",
        "core.change.test_originals",
    ),
    Change(
        "the staging folder not flushed",
        "change/carry_out.py",
        "disk.flush(root, files, [os.path.dirname(files[0]), root])",
        "disk.flush(root, files, [os.path.dirname(files[0])])",
        "core.change.test_originals",
    ),
    Change(
        "what is staged back not flushed",
        "change/carry_out.py",
        "    flush_files(backs, roots, disk)\n",
        "",
        "core.change.test_originals",
    ),
    Change(
        "folders not flushed in taking back",
        "change/carry_out.py",
        "    touched |= {folder_above(folder) for folder in journal.new_folders}\n    flush_folders(touched, roots, disk)\n",
        "",
        "core.change.test_originals",
    ),
    Change(
        "space of kept copies not counted",
        "change/readiness.py",
        "            needed[pack] = needed.get(pack, 0) + each.before.size\n",
        "            pass\n",
        "core.actions.mend.test_restore",
    ),
    Change(
        "space of copied originals not counted",
        "change/readiness.py",
        " or _has_more_names(roots.absolute(each.path))",
        "",
        "core.change.test_planning",
    ),
    Change(
        "space of what comes back not counted",
        "change/readiness.py",
        "if each.after and (each.source or device != pack)",
        "if each.after and each.source",
        "core.actions.mend.test_restore",
    ),
    Change(
        "base not compared",
        "change/planning.py",
        "(laid.owner, laid.role, laid.base) == (wish.owner, wish.role, base)",
        "(laid.owner, laid.role) == (wish.owner, wish.role)",
        "core.composing.test_settings",
    ),
    Change(
        "a pre-release named by the last term only",
        "versions/ranges.py",
        "names_prerelease |= is_pre",
        "names_prerelease = is_pre",
        "core.versions.test_ranges",
    ),
    Change(
        "a switched-off option that forces its mod",
        "solving/search.py",
        "if want.optional or is_off:",
        "if want.optional:",
        "core.solving.test_search",
    ),
    Change(
        "a search shared where the game differs",
        "solving/search.py",
        "return 0 if two.number in fixed else common",
        "return common",
        "core.solving.test_search",
    ),
)


def is_noticed(change: Change, tree: str) -> bool:
    """Break a copy of the checkout, run the test module over it, and mend it. Raises ValueError."""
    path = os.path.join(tree, "src", "rellum", "core", *change.file.split("/"))
    with open(path, encoding="utf-8") as file:
        whole = file.read()
    if whole.count(change.old) != 1:
        raise ValueError(f"{change.name}: the code in {change.file} is another now")
    with open(path, "w", encoding="utf-8") as file:
        file.write(whole.replace(change.old, change.new))
    try:
        tests = [sys.executable, "-m", "unittest", "-f", f"tests.{change.test}"]
        variables = {**os.environ, "PYTHONPATH": os.path.join(tree, "src")}
        ran = subprocess.run(tests, cwd=tree, env=variables, capture_output=True)
    finally:
        with open(path, "w", encoding="utf-8") as file:
            file.write(whole)
    return ran.returncode != 0


def main() -> int:
    """Try all changes, or those named; return 1 where one is not noticed."""
    wanted = " ".join(sys.argv[1:])
    passed = 0
    chosen = [each for each in CHANGES if wanted in each.name]
    with tempfile.TemporaryDirectory() as tree:
        for name in ("src", "tests", "tools", "docs"):
            shutil.copytree(os.path.join(ROOT, name), os.path.join(tree, name))
        for change in chosen:
            noticed = is_noticed(change, tree)
            passed += noticed
            print(f"{'noticed' if noticed else 'NOT NOTICED':<12} {change.name}", flush=True)
    print(f"{passed} of {len(chosen)} changes are noticed")
    return 0 if passed == len(chosen) else 1


if __name__ == "__main__":
    sys.exit(main())
