"""Placing: which member of an archive becomes which file of the game.

Folders that archives are wrapped in are seen through: see ``wrappers``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache

from rellum.core.archives.forms import ENDINGS
from rellum.core.archives.model import Member
from rellum.core.catalog.release_rules import PlaceRule
from rellum.core.catalog.toml_lines import place_of
from rellum.core.globs import path_test, split_fixed
from rellum.core.layers.model import LayerFile
from rellum.core.layers.wrappers import (
    NOTHING_KNOWN,
    KnownFolders,
    PlacingFault,
    prefix_of,
    top_of,
)
from rellum.core.shelf.index import ShelfEntry
from rellum.core.solving.problem import are_chosen
from rellum.core.values.chosen_options import Options
from rellum.core.values.paths import TargetPath, below, fault_in_relative, shown


def place_archives(
    rules: Sequence[PlaceRule],
    archives: Sequence[tuple[ShelfEntry, Sequence[Member]]],
    options: Options = (),
    known: KnownFolders = NOTHING_KNOWN,
) -> tuple[LayerFile, ...]:
    """Return the files that a release lays, by its rules in order; a later rule wins.

    Rules for options that are not chosen are passed over; each of the others must find something in
    at least one of the archives. Two choices of one option may not bring the same file. Raises
    PlacingFault.
    """
    placed: dict[TargetPath, LayerFile] = {}
    chosen_by: dict[TargetPath, PlaceRule] = {}
    for rule in rules:
        if not are_chosen(rule.options, options):
            continue
        found_any = False
        for entry, members in archives:
            found = _members_by_path(rule, members, known)
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
    rule: PlaceRule, members: Sequence[Member], known: KnownFolders = NOTHING_KNOWN
) -> dict[TargetPath, Member]:
    found: dict[TargetPath, Member] = {}
    for path, member in _apply_rule(rule, members, known):
        if path in found:
            raise _made_one(rule, path, found[path], member)
        found[path] = member
    return found


def _apply_rule(
    rule: PlaceRule, members: Sequence[Member], known: KnownFolders
) -> Iterator[tuple[TargetPath, Member]]:
    prefix = prefix_of(rule, members, known)
    if prefix is None:
        return
    _, pattern = split_fixed(rule.take)
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


def _not_found(rule: PlaceRule, archives: Sequence[tuple[str, Sequence[Member]]]) -> PlacingFault:
    wanted = f"'{rule.take}'"
    if rule.expect:
        wanted += f" with {' and '.join(rule.expect)}"
    found = sorted({top_of(member.path) for _, members in archives for member in members})
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
    found = [path for path in paths if path.lower().endswith(ENDINGS)]
    if not found:
        return ""
    more = f" and {len(found) - 3} more" if len(found) > 3 else ""
    kind = "another archive" if len(found) == 1 else "other archives"
    return f"{kind} ({', '.join(found[:3])}{more})"
