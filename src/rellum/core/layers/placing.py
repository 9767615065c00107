"""Placing: which member of an archive becomes which file of the game.

A rule's ``take`` is looked for at the top of the archive and, where it is not there, one folder
deeper and deeper: archives are often wrapped in a folder, or two, that the game must not see.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache

from rellum.core.archives.links import links_laid
from rellum.core.archives.model import Member
from rellum.core.catalog.rules import PlaceRule
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.globs import WILDCARD, fixed_folder, path_test
from rellum.core.layers.model import LayerFile
from rellum.core.paths import (
    MemberPath,
    TargetPath,
    below,
    fault_in_relative,
    shown,
)
from rellum.core.shelf.index import ShelfEntry
from rellum.core.solving.problem import Options, are_chosen

_ARCHIVE_ENDINGS = (
    ".zip", ".7z", ".rar", ".tar", ".tgz", ".tar.gz", ".tar.bz2", ".tar.xz", ".tar.zst",
)  # fmt: skip


class PlacingFault(UserError):
    """An archive does not have the shape that its card describes."""

    code = "placing-fault"


Holds = Callable[[TargetPath, str], bool]
"""Whether the game has something of a name in a folder, or a place is there."""


def holds_nothing(_: TargetPath, __: str) -> bool:
    """Say of every folder that nothing is known to be in it."""
    return False


def seen_through(
    rules: Sequence[PlaceRule],
    archives: Sequence[tuple[ShelfEntry, Sequence[Member]]],
    holds: Holds = holds_nothing,
) -> tuple[str, ...]:
    """Return, in words, where files of an archive lie deeper than at its top, or too deep; and its links."""
    found: dict[str, None] = {}
    for entry, members in archives:
        if copied := sum(member.copy_of is not None for member in members):
            found[f"{entry.name}: {links_laid(copied)}"] = None
    for rule in rules:
        base, _ = _split(rule.take)
        for entry, members in archives if rule.expect or rule.take == "**" else ():
            wrapper = _find_wrapper(rule, base, members, holds)
            top = _only_folder(members)
            if wrapper:
                depth = wrapper.count("/")
                levels = "one level" if depth == 1 else f"{depth} levels"
                what = "what is expected lies" if rule.expect else "the files lie"
                found[f"{entry.name}: {what} {levels} deeper, in {wrapper}"] = None
            elif top and not base and top.rstrip("/") == shown(rule.to).rpartition("/")[2]:
                found[
                    f"{entry.name}: its folder {top} comes into a folder of the same name; if that is one "
                    f'too many, write take = "{top}**" ({place_of(rule.source)})'
                ] = None
    return tuple(found)


def place_archives(
    rules: Sequence[PlaceRule],
    archives: Sequence[tuple[ShelfEntry, Sequence[Member]]],
    options: Options = (),
    holds: Holds = holds_nothing,
) -> tuple[LayerFile, ...]:
    """Return the files that a release lays, by its rules in order; a later rule wins.

    Rules for options that are not chosen are passed over; each of the others must find something in
    at least one of the archives. Two choices of one option may not bring the same file. ``holds`` knows
    what is in the folders of the game, so that a wrapper which nobody expects is seen through. Raises
    PlacingFault.
    """
    placed: dict[TargetPath, LayerFile] = {}
    chosen_by: dict[TargetPath, PlaceRule] = {}
    for rule in rules:
        if not are_chosen(rule.options, options):
            continue
        found_any = False
        for entry, members in archives:
            found = _members_by_path(rule, members, holds)
            for path in found if rule.options else ():
                _refuse_both(rule, chosen_by.setdefault(path, rule), path)
            placed |= {
                path: LayerFile(path=path, archive=entry.digest, member=member)
                for path, member in found.items()
            }
            found_any = found_any or bool(found)
        if not found_any:
            raise _not_found(rule, [(entry.name, members) for entry, members in archives])
    return tuple(placed.values())


def _refuse_both(rule: PlaceRule, first: PlaceRule, path: TargetPath) -> None:
    """Refuse a file that two choices of one option both bring. Raises PlacingFault."""
    groups = dict(first.options)
    for group, choice in rule.options:
        if rule is not first and groups.get(group, choice) != choice:
            raise PlacingFault(
                f"the choices {groups[group]} and {choice} of the option {group} both bring {shown(path)}",
                details=(place_of(first.source), place_of(rule.source)),
                hint="Choose one of them, or correct the card.",
            )


def packed_archive(rule: PlaceRule, archives: Sequence[ShelfEntry]) -> ShelfEntry:
    """Return the archive that a rule lays as one file, as it is. Raises PlacingFault."""
    fits = path_test(rule.take)
    found = [each for each in archives if fits(each.name)]
    if len(found) == 1:
        return found[0]
    names = ", ".join(each.name for each in archives)
    raise PlacingFault(
        f"{place_of(rule.source)}: of {names or 'no archives'}, {len(found)} fit '{rule.take}', "
        "and one is to be laid packed",
        hint="Write in 'take' what its name is like.",
    )


def place_members(
    rule: PlaceRule, members: Sequence[Member], name: str
) -> dict[TargetPath, Member]:
    """Return where one rule puts which of some files, which ``name`` stands for. Raises PlacingFault."""
    found = _members_by_path(rule, members)
    if not found:
        raise _not_found(rule, [(name, members)])
    return found


def _members_by_path(
    rule: PlaceRule, members: Sequence[Member], holds: Holds = holds_nothing
) -> dict[TargetPath, Member]:
    found: dict[TargetPath, Member] = {}
    for path, member in _apply_rule(rule, members, holds):
        if path in found:
            raise _made_one(rule, path, found[path], member)
        found[path] = member
    return found


def _apply_rule(
    rule: PlaceRule, members: Sequence[Member], holds: Holds
) -> Iterator[tuple[TargetPath, Member]]:
    base, pattern = _split(rule.take)
    wrapper = _find_wrapper(rule, base, members, holds)
    if wrapper is None:
        return
    prefix = wrapper + base
    fits = path_test(pattern)
    left_out = [_name_matcher(each) for each in rule.leave_out]
    for member in members:
        if not member.path.startswith(prefix) or not fits(rest := member.path[len(prefix) :]):
            continue
        if any(is_left_out(rest) for is_left_out in left_out):
            continue
        path = _renamed(rule, _stripped(rule, rest))
        yield below(rule.to, path), member


def _name_matcher(pattern: str) -> Callable[[str], bool]:
    """Return the test of a pattern: over the whole path, or without a slash over the file's name."""
    fits = path_test(pattern)
    return fits if "/" in pattern else lambda path: fits(path.rpartition("/")[2])


def _stripped(rule: PlaceRule, path: str) -> str:
    """Take folders off the front of a path. Raises PlacingFault where there are not so many."""
    parts = path.split("/", rule.strip)
    if len(parts) <= rule.strip:
        folders = "folder" if rule.strip == 1 else "folders"
        raise PlacingFault(
            f"{place_of(rule.source)}: {path!r} does not lie in {rule.strip} {folders} to strip",
            hint="Leave it out by 'leave-out', or take it by a rule of its own.",
        )
    return parts[-1]


def _renamed(rule: PlaceRule, path: str) -> str:
    """Rename a path by the first pattern that it fits. Raises PlacingFault for what is no path then."""
    for pattern, becomes in rule.rename:
        folder, slash, name = path.rpartition("/")
        of_name = "/" not in pattern
        found = _capturing(pattern).fullmatch(name if of_name else path)
        if found is None:
            continue
        new = _filled(becomes, found.groups())
        new = f"{folder}{slash}{new}" if of_name else new
        if fault := fault_in_relative(new):
            raise PlacingFault(
                f"{place_of(rule.source)}: renamed by '{pattern}', {path!r} becomes {new!r}: {fault}",
                hint="Correct 'rename' in the card.",
            )
        return new
    return path


def _filled(becomes: str, captured: Sequence[str]) -> str:
    """Put what each ``*`` of a pattern stood for in the place of those of another."""
    parts = iter(captured)
    return re.sub(r"\*+", lambda _: next(parts), becomes)


@lru_cache(maxsize=256)
def _capturing(pattern: str) -> re.Pattern[str]:
    """Return a pattern in which each ``*`` (within a folder) or ``**`` (across) is a group."""
    pieces = re.split(r"(\*+)", pattern)
    return re.compile(
        "".join(
            re.escape(piece) if "*" not in piece else "(.*)" if len(piece) > 1 else "([^/]*)"
            for piece in pieces
        ),
        re.DOTALL,
    )


def _made_one(rule: PlaceRule, path: TargetPath, first: Member, second: Member) -> PlacingFault:
    return PlacingFault(
        f"{place_of(rule.source)}: {first.path} and {second.path} would both become {shown(path)}",
        hint="Correct 'rename' or 'strip' in the card, or leave one of them out.",
    )


def _split(take: str) -> tuple[str, str]:
    """Split ``Tides/data/**`` into the fixed folder ``Tides/data/`` and the pattern ``**``."""
    folder = fixed_folder(take)
    return folder, take[len(folder) :]


def _only_folder(members: Sequence[Member]) -> str:
    """Return the one folder, with its slash, that all files of an archive lie in; else nothing."""
    tops = {_top(member.path) for member in members}
    top = tops.pop() if len(tops) == 1 else ""
    return top if top.endswith("/") else ""


def _mirrored(rule: PlaceRule, members: Sequence[Member], holds: Holds) -> str:
    """Return the only folder of an archive where what is in it mirrors the target; else nothing."""
    top = _only_folder(members)
    if not top or holds(rule.to, top.rstrip("/")):
        return ""
    inside = {_top(member.path[len(top) :]).rstrip("/") for member in members}
    return top if any(holds(rule.to, name) for name in inside) else ""


def _find_wrapper(
    rule: PlaceRule, base: str, members: Sequence[Member], holds: Holds
) -> str | None:
    """Return the shallowest folder, with its slash, under which the rule's shape is found.

    A rule that takes all and expects nothing finds its shape in the only folder of an archive, where what is
    in that mirrors the target. Raises PlacingFault where several lie equally deep.
    """
    if not rule.expect and rule.take == "**" and not rule.strip:
        return _mirrored(rule, members, holds)
    files = {member.path for member in members}
    folders = {""} | {folder for member in members for folder in _folders_above(member.path)}
    _, pattern = _split(rule.take)
    needed = [*rule.expect]
    if not WILDCARD.search(pattern):
        needed.append(pattern)

    def fits(wrapper: str) -> bool:
        if wrapper + base not in folders:
            return False
        return all(
            (wrapper + base + each in folders)
            if each.endswith("/")
            else (MemberPath(wrapper + base + each) in files)
            for each in needed
        )

    by_depth: dict[int, list[str]] = {}
    for folder in folders:
        by_depth.setdefault(folder.count("/"), []).append(folder)
    for depth in sorted(by_depth):
        found = sorted(filter(fits, by_depth[depth]))
        if len(found) > 1:
            raise PlacingFault(
                f"{place_of(rule.source)}: '{rule.take}' fits more than one folder: "
                + ", ".join(each or "the top" for each in found[:5]),
                hint="Name the folder in 'take', or more files in 'expect', in the card.",
            )
        if found:
            return found[0]
    return None


def _folders_above(path: str) -> Iterator[str]:
    cut = path.find("/")
    while cut >= 0:
        yield path[: cut + 1]
        cut = path.find("/", cut + 1)


def _not_found(rule: PlaceRule, archives: Sequence[tuple[str, Sequence[Member]]]) -> PlacingFault:
    wanted = f"'{rule.take}'"
    if rule.expect:
        wanted += f" with {' and '.join(rule.expect)}"
    found = sorted({_top(member.path) for _, members in archives for member in members})
    names = ", ".join(name for name, _ in archives)
    there = ", ".join(found[:8]) + (" …" if len(found) > 8 else "")
    inner = inner_archives(member.path for _, members in archives for member in members)
    return PlacingFault(
        f"{place_of(rule.source)}: {wanted} is not in {names}",
        details=(f"found at its top: {there or 'nothing'}",),
        hint=f"It holds {inner}: unpack it, and take that one."
        if inner
        else "Correct 'take' or 'expect' in the card, or take the right archive.",
    )


def inner_archives(paths: Iterable[str]) -> str:
    """Say which archives lie in an archive, three of them at most; an empty text where none does."""
    found = [path for path in paths if path.lower().endswith(_ARCHIVE_ENDINGS)]
    if not found:
        return ""
    more = f" and {len(found) - 3} more" if len(found) > 3 else ""
    kind = "another archive" if len(found) == 1 else "other archives"
    return f"{kind} ({', '.join(found[:3])}{more})"


def _top(path: str) -> str:
    head, slash, _ = path.partition("/")
    return head + slash
