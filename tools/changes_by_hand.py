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
        "    keep = Keep() if facts.is_changed and laid is not None else None\n",
        "    keep = None\n",
        "core.change.test_planning",
    ),
    Change(
        "no copy kept in unlaying",
        "change/planning.py",
        "keep = Keep(mod_of(laid.owner), laid.base) if laid.role else Keep()",
        "keep = None",
        "core.change.test_planning",
    ),
    Change(
        "no copy kept of vanilla changed by hand",
        "change/planning.py",
        "    keep = Keep() if facts.now else None\n",
        "    keep = None\n",
        "core.change.test_planning",
    ),
    Change(
        "base not compared",
        "change/planning.py",
        "NOTHING if noted == laid",
        "NOTHING if laid and noted._replace(base=laid.base) == laid",
        "core.change.test_planning",
    ),
    Change(
        "a waiting file not brought back over vanilla",
        "change/planning.py",
        "return now is None or now == facts.vanilla",
        "return now is None",
        "core.change.test_planning",
    ),
    Change(
        "a mod's file taken for vanilla over another file",
        "change/planning.py",
        "else laid.under == facts.vanilla:",
        "else True:",
        "core.change.test_planning",
    ),
    Change(
        "the user's own taken for a mod's where the game has a file",
        "change/planning.py",
        "facts.is_changed and laid.under is None and facts.is_the_users",
        "facts.is_changed and facts.is_the_users",
        "core.change.test_planning",
    ),
    Change(
        "brought back what stands there already",
        "change/planning.py",
        "if _digest(now) == _digest(under):",
        "if now is None and under is None:",
        "core.change.test_planning",
    ),
    Change(
        "no copy kept of what was merged",
        "change/planning.py",
        "if now is not None and (facts.is_changed or is_mixed):",
        "if now is not None and facts.is_changed:",
        "core.change.test_planning",
    ),
    Change(
        "vanilla brought back where another file lay",
        "change/planning.py",
        "    if facts.to_vanilla:\n",
        "    if True:\n",
        "core.change.test_planning",
    ),
    Change(
        "nobody's absence taken for this release's",
        "change/planning.py",
        "laid.content is None and laid.owner == wanted.owner",
        "laid.content is None",
        "core.change.test_planning",
    ),
    Change(
        "an unchanged file taken for the user's",
        "change/planning.py",
        'wanted.role == "mine" and now is not None and facts.is_changed',
        'wanted.role == "mine" and now is not None',
        "core.change.test_planning",
    ),
    Change(
        "what waits forgotten, though not all of it is there",
        "change/planning.py",
        'returns="" if keep else wanted.returns',
        "returns=wanted.returns",
        "core.change.test_planning",
    ),
    Change(
        "a lost original not taken from the mod that has it",
        "change/planning.py",
        "source = _same_in_mod(facts, under)",
        "source = None",
        "core.change.test_planning",
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
        "if isinstance(owner, Party) or owner.mod in users.mods:",
        "if isinstance(owner, Party):",
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
        "core.change.test_target_plans",
    ),
    Change(
        "a file changed meanwhile removed",
        "change/carry_out.py",
        "        if now != _stamp_of(step.before):\n            raise _unexpected(path)\n        disk.remove",
        "        disk.remove",
        "core.change.test_target_plans",
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
        "            needed[pack] = needed.get(pack, 0) + before.size\n",
        "            pass\n",
        "core.actions.mend.test_restore",
    ),
    Change(
        "space of copied originals not counted",
        "change/readiness.py",
        " or _has_more_names(roots.absolute(each.path))",
        "",
        "core.change.test_target_plans",
    ),
    Change(
        "space of what comes back not counted",
        "change/readiness.py",
        "if each.after and (source_of(each) is not None or device != pack)",
        "if each.after and source_of(each) is not None",
        "core.actions.mend.test_restore",
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
