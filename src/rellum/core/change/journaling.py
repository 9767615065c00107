"""From a plan to what the journal and the state note of it."""

from __future__ import annotations

import os
import stat

from rellum.core.change.journal import (
    Journal,
    Step,
)
from rellum.core.change.operations import returned_with, row_after
from rellum.core.change.plan import Plan
from rellum.core.hashing import Digest
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.state import State, new_id
from rellum.core.pack.state_change import StateChange
from rellum.core.values.content import Content
from rellum.core.values.paths import PlacePath


def bases_before(plan: Plan, state: State) -> tuple[Digest, ...]:
    """Return what releases wanted until now of the files that the plan is about."""
    paths = [each.path for each in (*plan.operations, *plan.noted)] + list(plan.forgotten)
    return tuple(sorted({laid.base for laid in state.laid(paths).values() if laid.base}))


def journal_of(plan: Plan, journal: Journal, staged: dict[PlacePath, str]) -> Journal:
    """Put a plan into a journal, with what staging made of each file."""
    steps, laid, gone, kept = [], [], [], []
    for each in plan.operations:
        before, after = each.found.content, None
        if each.after:
            file = os.path.join(journal.staging_of(each.path), staged[each.path])
            after = _as_staged(file, each.after)
        steps.append(
            Step(path=each.path, before=before, after=after, staged=staged.get(each.path, ""))
        )
        row = row_after(each, after)
        if row:
            laid.append(row)
        else:
            gone.append(each.path)
        if each.keep and before:
            kept.append(
                Kept(
                    path=each.path,
                    digest=before.digest,
                    size=before.size,
                    aside_for=each.keep.for_mod,
                    owner=each.found.owner,
                    base=each.keep.base,
                    mode=before.mode,
                )
            )
    noted = records_only(plan, journal.action)
    return journal._replace(
        steps=tuple(steps),
        new_folders=plan.new_folders,
        spare_folders=plan.spare_folders,
        laid=(*laid, *noted.laid),
        no_longer_laid=(*gone, *noted.no_longer_laid),
        kept=(*kept, *plan.kept_too),
        returned=tuple(each.path for each in plan.operations if returned_with(each)),
        is_ready=True,
    )


def _as_staged(path: str, content: Content) -> Content:
    status = os.lstat(path)
    return content._replace(
        size=status.st_size,
        mode=stat.S_IMODE(status.st_mode),
        mtime_ns=status.st_mtime_ns,
    )


def records_only(plan: Plan, action: str) -> StateChange:
    """Return what a plan only notes, without a step that touches a file."""
    return StateChange(
        id=new_id(),
        action=action,
        laid=plan.noted,
        no_longer_laid=plan.forgotten,
        kept=plan.kept_too,
        new_folders=(),
        gone_folders=(),
    )
