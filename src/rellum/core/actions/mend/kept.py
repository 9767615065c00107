"""Kept copies: list the user's files that were set aside; bring them back, copy them out, delete them."""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.change.execute import execute
from rellum.core.change.opening import open_pack
from rellum.core.change.operations import BringBack, Found, Keep, LayAgain, Operation
from rellum.core.change.plan import Plan
from rellum.core.change.request import Request
from rellum.core.change.staging import NoSources
from rellum.core.errors import UserError
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.marker import refuse_other_owner
from rellum.core.pack.session import Session
from rellum.core.pack.standing import CannotLay, content_at
from rellum.core.values.content import PLAIN_MODE, Content
from rellum.core.values.owners import FOREIGN, VANILLA
from rellum.core.values.paths import is_in_game, parents, root_of, shown


class NoKeptCopy(UserError):
    """There is no kept copy of that number, or its content is gone."""

    code = "no-kept-copy"


class CannotCopyOut(UserError):
    """A kept copy cannot be written where it was asked for."""

    code = "cannot-copy-out"


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptCopy:
    """One kept copy. ``is_there``: its content is in the store."""

    kept: Kept
    is_there: bool


def list_kept(request: Request) -> list[KeptCopy]:
    """Return all kept copies, the newest first; what was swept is listed by ``list_sweeps``."""
    with open_pack(request) as opened:
        return _all(opened)


def _all(opened: Session) -> list[KeptCopy]:
    store = opened.site.originals
    return [
        KeptCopy(kept=each, is_there=store.has(each.digest))
        for each in reversed(opened.state.kept.all())
    ]


def _chosen(opened: Session, numbers: Sequence[int]) -> list[Kept]:
    known = {each.number: each for each in opened.state.kept.all()}
    missing = [number for number in numbers if number not in known]
    if missing:
        raise NoKeptCopy(
            f"there is no kept copy number {missing[0]}", hint="'rellum kept' lists them all."
        )
    return [known[number] for number in dict.fromkeys(numbers)]


def bring_back(request: Request, numbers: Sequence[int]) -> list[Kept]:
    """Bring kept copies back to their paths; what stands there is kept first.

    Raises NoKeptCopy, CannotLay where the path belongs to the game or to a mod, RolledBack.
    """
    with open_pack(request) as opened:
        refuse_other_owner(opened.roots, opened.home, opened.adopted.pack_id)
        chosen = _chosen(opened, numbers)
        operations = [_operation(opened, each) for each in chosen]
        paths = [each.path for each in chosen]
        twice = next((path for path in paths if paths.count(path) > 1), None)
        if twice:
            raise CannotLay(
                f"several of these copies are of {shown(twice)}", hint="Bring back one of them."
            )
        above = {folder for path in paths for folder in parents(path)}
        new = sorted(each for each in above if not os.path.isdir(opened.roots.absolute(each)))
        plan = Plan(
            operations=tuple(sorted(operations, key=lambda each: each.path)),
            new_folders=tuple(new),
            kept_gone=tuple(each.number for each in chosen),
        )
        execute(plan, "kept back", opened.site, NoSources())
        return chosen


def _operation(opened: Session, kept: Kept) -> Operation:
    path = kept.path
    if not opened.site.originals.is_whole(kept.digest):
        raise NoKeptCopy(
            f"the content of kept copy number {kept.number} ({shown(path)}) is missing or damaged"
        )
    if not is_in_game(path) and root_of(path) not in opened.roots.outside:
        raise CannotLay(f"it is not known where {root_of(path)} lies now", hint=_copy_out(kept))
    row = opened.state.laid([path]).get(path)
    entry = opened.state.baseline([path]).get(path)
    rules = opened.rules
    patterns = (*rules.carried, *rules.settings_patterns)
    may_change = rules.path_rules.test(patterns)(path)
    if (row or entry) and not may_change and not (row and row.role):
        owner = row.owner if row else "the game"
        raise CannotLay(f"{shown(path)} is a file of {owner}", hint=_copy_out(kept))
    now, _ = content_at(opened.roots, path, None)
    owner = row.owner if row else VANILLA if entry else FOREIGN
    found = Found(now, owner, is_changed=True)
    keep = Keep() if now is not None and now.digest != kept.digest else None
    after = Content(
        digest=kept.digest,
        size=kept.size,
        mode=PLAIN_MODE if kept.mode is None else kept.mode,
        mtime_ns=_now_ns(),
    )
    if row:
        return LayAgain(path, found, row, after, keep=keep)
    return BringBack(path, found, after, FOREIGN, keep=keep)


def _copy_out(kept: Kept) -> str:
    return f"Copy it out instead: rellum kept out {kept.number} --to FOLDER"


def _now_ns() -> int:
    import time

    return time.time_ns()


def copy_out(request: Request, numbers: Sequence[int], folder: str) -> list[str]:
    """Write kept copies into a folder, at the paths that they had; they stay in the list.

    Returns the files. Raises NoKeptCopy, CannotCopyOut.
    """
    with open_pack(request) as opened:
        written = []
        for each in _chosen(opened, numbers):
            source = opened.site.originals.path_of(each.digest)
            target = os.path.join(os.path.abspath(folder), *each.path[1:].split("/"))
            if os.path.lexists(target):
                raise CannotCopyOut(f"{target} is there already", hint="Name another folder.")
            try:
                os.makedirs(os.path.dirname(target), exist_ok=True)
                shutil.copyfile(source, target)
            except OSError as error:
                raise CannotCopyOut(
                    f"{target} cannot be written: {error.strerror}", hint="Fix that and try again."
                ) from error
            written.append(target)
        return written


def let_go(request: Request, numbers: Sequence[int]) -> list[Kept]:
    """Take kept copies off the list; a content that nothing else needs is deleted. Raises NoKeptCopy."""
    with open_pack(request) as opened:
        chosen = _chosen(opened, numbers)
        opened.state.forget_kept([each.number for each in chosen])
        opened.site.originals.let_go_of_all_but(opened.state.needed_counts())
        return chosen
