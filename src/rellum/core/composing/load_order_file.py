"""The game's own load-order file, written from the line-up."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rellum.core.catalog.model import GameSheet, LoadOrderFile
from rellum.core.composing.workshop import Workshop, Written, recipe_of, write_made
from rellum.core.hashing import hash_bytes
from rellum.core.layers.model import DiskFile, MadeFile, Target, TargetFile
from rellum.core.patching.model import PatchFault
from rellum.core.patching.order_file import order_ini, order_json, order_lines
from rellum.core.values.content import Laid
from rellum.core.values.owners import LOAD_ORDER, Owner
from rellum.core.values.path_rules import PathRules
from rellum.core.values.paths import PlacePath, shown

MOST_BYTES = 16 << 20


def with_load_order(
    target: Target, owners: Sequence[Owner], workshop: Workshop, sheet: GameSheet
) -> Target:
    """Return the target with the load-order file that the sheet names, if it names one.

    ``owners`` are whose layers are laid, in load order. Raises PatchFault.
    """
    rule = sheet.load_order
    if rule is None:
        return target
    ranks: dict[Owner, int] = {owner: rank for rank, owner in enumerate(owners)}
    state = workshop.opened.state
    all_laid = state.laid()
    laid = all_laid.get(rule.path)
    paths = (path for path in all_laid if path != rule.path)
    before = {name for _, name in _entries(rule, sheet.path_rules, ((path, 0) for path in paths))}
    ranked = ((path, ranks.get(each.owner, 0)) for path, each in target.files.items())
    ours = _entries(rule, sheet.path_rules, ranked)
    wanted = list(dict.fromkeys(name for _, name in sorted(ours)))
    now = workshop.now(rule.path)
    digest = now.digest if now else ""
    recipe = recipe_of("order", digest, rule.form, rule.key, rule.value, sorted(before), wanted)

    def make(file: str) -> Written:
        content = _content(now) if now else b""
        made = _written(rule, content, before, wanted, rules=sheet.path_rules)
        return write_made(file, made)

    if not wanted and laid is None:
        return target
    made = workshop.make(rule.path, recipe, make, () if now is None else (now,))
    empty = _written(rule, b"", set(), [], rules=sheet.path_rules)
    if not wanted and _is_needless(made, laid, rule, empty):
        return target
    # What the user changes in it is meant to be, and is kept by the next writing.
    entry = TargetFile(file=made, owner=LOAD_ORDER, role="merge")
    return Target(
        files={**target.files, rule.path: entry}, hidden=target.hidden, folders=target.folders
    )


def gone_entries(
    sheet: GameSheet, laid: Iterable[PlacePath], will_be_laid: Iterable[PlacePath]
) -> set[str]:
    """Return the entries that there are now, and will not be."""
    rule = sheet.load_order
    if rule is None:
        return set()
    before = _entries(rule, sheet.path_rules, ((path, 0) for path in laid))
    after = _entries(rule, sheet.path_rules, ((path, 0) for path in will_be_laid))
    return {name for _, name in before} - {name for _, name in after}


def _entries(
    rule: LoadOrderFile, rules: PathRules, paths: Iterable[tuple[PlacePath, int]]
) -> set[tuple[int, str]]:
    """Return the entries that paths stand for: what fits the sheet's pattern, or lies in it."""
    fits = rules.test([rule.entries])
    depth = rule.entries.count("/") + 1
    found = set()
    for path, rank in paths:
        parts = path.split("/", depth)
        above = "/".join(parts[:depth])
        if len(parts) >= depth and fits(above):
            found.add((rank, parts[depth - 1]))
    return found


def _content(file: DiskFile) -> bytes:
    if file.size > MOST_BYTES:
        raise PatchFault(
            f"{shown(file.path)} has {file.size:,} bytes, too many for a load-order file",
            hint="Check 'file' under [load-order] in the game sheet.",
        )
    with open(file.file, "rb") as stream:
        return stream.read()


def _is_needless(made: MadeFile, laid: Laid | None, rule: LoadOrderFile, empty: bytes) -> bool:
    """Whether the file, without entries of ours, is as it was before Rellum wrote any."""
    if laid is None:
        return True
    if laid.under is not None:
        return made.digest == laid.under.digest
    leftover = f"[{rule.key[0]}]\n".encode() if rule.form == "ini" else empty
    return made.digest in (hash_bytes(leftover), hash_bytes(empty))


def _written(
    rule: LoadOrderFile,
    content: bytes,
    before: set[str],
    wanted: Sequence[str],
    *,
    rules: PathRules,
) -> bytes:
    fold = rules.key
    if rule.form == "lines":
        return order_lines(content, before, wanted, fold)
    if rule.form == "ini":
        return order_ini(content, rule.key[0], rule.value, before, wanted, fold)
    return order_json(content, rule.key, before, wanted, fold, shown(rule.path))
