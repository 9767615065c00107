"""Plans for many paths: the folder becomes a target, or what lies under its layers comes back.

Only paths that some layer brings or brought are looked at, so the cost grows with the mods and not
with the game.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from typing import TYPE_CHECKING

from rellum.core.change.folders import new_folders, refuse_files_above, spare_folders
from rellum.core.change.operations import Operation
from rellum.core.change.path_facts import FactReader
from rellum.core.change.plan import Plan
from rellum.core.change.planning import Decision, Forget, decide
from rellum.core.change.setting_aside import set_aside, swept, with_emptied
from rellum.core.composing.wanted import Wanted, WantedFile, from_layer
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.rows import BaselineEntry
from rellum.core.pack.state import State
from rellum.core.values.content import PLAIN_MODE, Content, Laid
from rellum.core.values.owners import RELLUM
from rellum.core.values.paths import PlacePath, Roots

if TYPE_CHECKING:
    from rellum.core.composing.taking_out import TakenOut
    from rellum.core.composing.wanted import TheUsers
    from rellum.core.layers.model import Target


def plan_target(
    target: Target,
    marker: bytes,
    state: State,
    roots: Roots,
    users: TheUsers,
    has_original: Callable[[Digest], bool],
    taken_out: TakenOut | None = None,
) -> Plan:
    """Plan so that the folder becomes the baseline with the target over it. Raises CannotLay.

    ``has_original`` tells whether a content lies in the store: where it does not, what a mod leaves stays.

    What the user put into a folder of a mod that goes is set aside, and comes back with the mod.
    """
    files = target.files
    laid = state.laid()
    waiting = {
        each.path: each
        for each in state.kept.aside()
        if each.aside_for in users.mods and each.path not in laid
    }
    paths = sorted({*files, *laid, *waiting, MARKER_PATH})
    baseline = state.baseline(paths)
    wanted: dict[PlacePath, Wanted] = {
        path: from_layer(file, baseline.get(path)) for path, file in files.items()
    }
    wanted[MARKER_PATH] = WantedFile(
        content=Content(digest=hash_bytes(marker), size=len(marker), mode=PLAIN_MODE, mtime_ns=0),
        owner=RELLUM,
        source=marker,
    )
    reader = FactReader(state, roots, has_original, users, waiting=waiting, taken_out=taken_out)
    decisions = _decided(reader, paths, wanted, laid, baseline)
    plan = _plan(decisions, baseline, target.folders, laid, state, roots, users)
    bases = (each.base for each in wanted.values() if isinstance(each, WantedFile))
    return plan._replace(bases=tuple(base for base in bases if base))


def plan_vanilla(
    paths: Iterable[PlacePath],
    state: State,
    roots: Roots,
    has_original: Callable[[Digest], bool],
    *,
    whole: bool = False,
    users: TheUsers | None = None,
    taken_out: TakenOut | None = None,
    trusts: bool = True,
) -> Plan:
    """Plan so that what lies under these paths' layers comes back, and lost vanilla folders too.

    ``whole``: these are all, so that folders which Rellum made go as well. ``has_original`` tells
    whether a content lies in the store, for vanilla files that no layer displaced but that were
    changed or lost all the same. With ``users``, what the user put into folders of mods is set aside.
    ``trusts``: an unchanged size and time prove that a file is unchanged.
    """
    wanted_paths = sorted(set(paths))
    laid, baseline = state.laid(wanted_paths), state.baseline(wanted_paths)
    reader = FactReader(
        state, roots, has_original, users, taken_out=taken_out, trusts=trusts, to_vanilla=True
    )
    decisions = _decided(reader, wanted_paths, {}, laid, baseline)
    return _plan(decisions, baseline, (), laid if whole else None, state, roots, users)


Decided = list[tuple[PlacePath, Decision]]


def _decided(
    reader: FactReader,
    paths: Iterable[PlacePath],
    wanted: Mapping[PlacePath, Wanted],
    laid: Mapping[PlacePath, Laid],
    baseline: Mapping[PlacePath, BaselineEntry],
) -> Decided:
    return [(facts.path, decide(facts)) for facts in reader.read(paths, wanted, laid, baseline)]


def _plan(
    decided: Decided,
    baseline: Mapping[PlacePath, BaselineEntry],
    folders: Collection[PlacePath],
    all_laid: Mapping[PlacePath, Laid] | None,
    state: State,
    roots: Roots,
    users: TheUsers | None,
) -> Plan:
    """Put decisions together, with the folders that they need and leave empty.

    ``folders`` must be there whatever lies in them. ``all_laid``: the plan is for all of it,
    and other folders that Rellum made are not needed.
    """
    operations: list[Operation] = []
    noted: list[Laid] = []
    forgotten: list[PlacePath] = []
    for _, decision in decided:
        step = decision.step
        if isinstance(step, Laid):
            noted.append(step)
        elif isinstance(step, Forget):
            forgotten.append(step.path)
        elif step is not None:
            operations.append(step)
    refuse_files_above((each.path for each in operations if each.after), roots)
    spare = spare_folders(operations, noted, forgotten, folders, state, roots, all_laid)
    if users:
        known = {each.path for each in operations}
        operations += set_aside(state, roots, spare, known, users)
        operations += swept(roots, users.swept, {each.path for each in operations})
        operations.sort(key=lambda operation: operation.path)
    return Plan(
        operations=tuple(operations),
        noted=tuple(noted),
        forgotten=tuple(forgotten),
        new_folders=tuple(new_folders(operations, baseline, folders, roots)),
        spare_folders=with_emptied(spare, operations, roots),
        left_alone=tuple((path, each.left_alone) for path, each in decided if each.left_alone),
        swept_to=users.swept_to if users and users.swept else "",
        swept=users.swept if users else (),
        kept_too=tuple(each.kept_too for _, each in decided if each.kept_too),
    )
