"""Switching the variant: the plan of the other line-up, with the player's settings and saves of the other."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from rellum.core.change.backing_up import players_files
from rellum.core.change.folders import new_folders
from rellum.core.change.operations import Lay, LayAgain, Operation, row_after
from rellum.core.change.plan import Plan
from rellum.core.change.players_plan import players_operations
from rellum.core.layers.model import DiskFile
from rellum.core.pack.backup import Backup
from rellum.core.pack.backups import Backups
from rellum.core.pack.session import Session
from rellum.core.values.content import Content, Laid
from rellum.core.values.paths import PlacePath, Roots, is_in_game, root_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Parking:
    """What becomes of the player's own files with a switch.

    ``comes_from``: the backup from which settings and saves come; None where the variant was never in use,
    and starts with copies of what is there. ``made_elsewhere``: saves that stay, and the variant that made
    each.
    """

    operations: tuple[Operation, ...]
    comes_from: Backup | None
    made_elsewhere: tuple[tuple[PlacePath, str], ...]


def plan_parking(
    opened: Session, roots: Roots, plan: Plan, backups: Backups, name: str, *, saves_too: bool
) -> Parking:
    """Plan what of the player's goes and comes when the variant ``name`` comes into use.

    ``roots`` are its places: one that lies elsewhere than before has files of its own already. Settings
    always belong to a variant, saves and other carried files where ``saves_too``.
    """
    is_carried = opened.rules.path_rules.test(opened.rules.carried)
    standing = players_files(opened.rules, opened.state, opened.roots)
    backup = backups.newest_of(name)
    saves = [path for path in standing if is_carried(path) and not (saves_too and backup)]
    operations = (
        own_operations(opened, roots, plan, backups, backup, saves_too=saves_too) if backup else ()
    )
    going = {each.path for each in (*plan.operations, *operations) if each.after is None}
    stay = [path for path in saves if path not in going]
    return Parking(
        operations=operations, comes_from=backup, made_elsewhere=_elsewhere(stay, backups, name)
    )


def own_operations(
    opened: Session,
    roots: Roots,
    plan: Plan,
    backups: Backups,
    backup: Backup,
    *,
    saves_too: bool,
    of_mods: Collection[PlacePath] = (),
) -> tuple[Operation, ...]:
    """Return what makes the player's files those of a backup, once a plan for the mods is carried out.

    ``of_mods`` are files that only come where a mod lays them.
    """
    rules = opened.rules
    is_carried = rules.path_rules.test(rules.carried)
    standing = players_files(rules, opened.state, opened.roots)
    comes = backups.files_of(backup.number)
    will_be_laid = _rows_after(plan, opened)
    wanted: dict[PlacePath, Content | None] = {}
    for path in {*standing, *comes}:
        content = comes.get(path)
        is_own = saves_too or not is_carried(path)
        is_alone = path not in will_be_laid
        if not _is_one_place(path, opened.roots, roots):
            continue
        if is_own and (is_alone or content is not None) and not (is_alone and path in of_mods):
            wanted[path] = content
    found = players_operations(wanted, opened.state, roots, backups.path_of, will_be_laid)
    return tuple(found)


def with_own_files(plan: Plan, own: Sequence[Operation], opened: Session, backups: Backups) -> Plan:
    """Return a plan of mods with that of the player's files in it: these win, as they come last."""
    by_path: dict[PlacePath, Operation] = {each.path: each for each in plan.operations}
    for each in own:
        before = by_path.get(each.path)
        if isinstance(before, Lay) and each.after is not None:
            row = row_after(before, before.after)
            assert row is not None
            source = DiskFile(
                path=each.path,
                file=backups.path_of(each.after.digest),
                digest=each.after.digest,
                size=each.after.size,
            )
            by_path[each.path] = LayAgain(
                each.path, before.found, row, each.after, source, before.keep, before.returns
            )
        elif before is None or each.after is not None:
            by_path[each.path] = each
    operations = [by_path[path] for path in sorted(by_path)]
    touched = set(by_path)
    made = set(new_folders(own, {}, (), opened.roots))
    folders = tuple(sorted({*plan.new_folders, *made}))
    return plan._replace(
        operations=tuple(operations),
        noted=tuple(each for each in plan.noted if each.path not in touched),
        new_folders=folders,
        others_folders=tuple(sorted(made - set(plan.new_folders))),
        spare_folders=tuple(f for f in plan.spare_folders if f not in made),
    )


def _rows_after(plan: Plan, opened: Session) -> dict[PlacePath, Laid]:
    """Return what will be laid once a plan is carried out."""
    rows: dict[PlacePath, Laid] = dict(opened.state.laid())
    for path in plan.forgotten:
        rows.pop(path, None)
    for each in plan.noted:
        rows[each.path] = each
    for operation in plan.operations:
        row = row_after(operation, operation.after)
        if row is None:
            rows.pop(operation.path, None)
        else:
            rows[operation.path] = row
    return rows


def _is_one_place(path: PlacePath, before: Roots, after: Roots) -> bool:
    """Whether a path lies in the same folder before and after."""
    if is_in_game(path):
        return True
    folder = before.outside.get(root_of(path))
    return folder is not None and folder == after.outside.get(root_of(path))


def _elsewhere(
    saves: list[PlacePath], backups: Backups, name: str
) -> tuple[tuple[PlacePath, str], ...]:
    made = backups.variants_of(saves)
    return tuple((path, made[path]) for path in saves if made.get(path) not in (None, "", name))
