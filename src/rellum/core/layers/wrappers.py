"""Wrapper folders: at which depth of an archive the files lie that a rule means.

A rule's ``take`` is looked for at the top of the archive and, where it is not there, one folder
deeper and deeper: archives are often wrapped in a folder, or two, that the game must not see. Where a rule
does not say what to expect, the only folder of an archive is seen through if what is in it mirrors the
target; and if it bears the target's own name, that is a question.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from rellum.core.archives.links import links_laid
from rellum.core.archives.model import Member
from rellum.core.catalog.release_rules import PlaceRule
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.globs import WILDCARD, split_fixed
from rellum.core.shelf.index import ShelfEntry
from rellum.core.values.paths import GAME, MemberPath, TargetPath, shown


class PlacingFault(UserError):
    """An archive does not have the shape that its card describes."""

    code = "placing-fault"


Depth = Literal["once", "twice"]
"""How a folder that would come into one of its own name is laid: its content alone, or as it comes."""


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownFolders:
    """What is known of the folders that archives are laid into.

    ``holds``: whether the game has something of a name in a folder, or a place is there. ``depth_in``: how
    a folder of the same name is laid in one; None where nobody said it.
    """

    holds: Callable[[TargetPath, str], bool]
    depth_in: Callable[[TargetPath], Depth | None]


NOTHING_KNOWN = KnownFolders(holds=lambda _, __: False, depth_in=lambda _: None)


@dataclass(frozen=True, slots=True, kw_only=True)
class SameName:
    """An archive's only folder, which its rule puts into a folder of the same name.

    ``folder`` ends in a slash. ``depth`` None: nobody said how it is laid.
    """

    archive: str
    folder: str
    to: TargetPath
    depth: Depth | None


Archives = Sequence[tuple[ShelfEntry, Sequence[Member]]]


def seen_through(
    rules: Sequence[PlaceRule], archives: Archives, known: KnownFolders = NOTHING_KNOWN
) -> Iterator[str]:
    """Yield, in words, where files of an archive lie deeper than at its top; and its links."""
    for entry, members in archives:
        if copied := sum(member.copy_of is not None for member in members):
            yield f"{entry.name}: {links_laid(copied)}"
    found: dict[str, None] = {}
    for rule in rules:
        base, _ = split_fixed(rule.take)
        for entry, members in archives if rule.expect or rule.take == "**" else ():
            if wrapper := _find_wrapper(rule, base, members, known):
                depth = wrapper.count("/")
                levels = "one level" if depth == 1 else f"{depth} levels"
                what = "the expected files are" if rule.expect else "the files are"
                found[f"{entry.name}: {what} {levels} deeper, in {wrapper}"] = None
    yield from found


def same_names(
    rules: Sequence[PlaceRule], archives: Archives, known: KnownFolders
) -> Iterator[SameName]:
    """Yield the folders that would come into a folder of the same name, and how each is laid."""
    for rule in rules:
        for entry, members in archives:
            if (prefix := _prefix(rule, members, known)) is None:
                continue
            if folder := _same_name(rule, prefix, members, known):
                depth = known.depth_in(rule.to)
                yield SameName(archive=entry.name, folder=folder, to=rule.to, depth=depth)


def prefix_of(rule: PlaceRule, members: Sequence[Member], known: KnownFolders) -> str | None:
    """Return the folder of an archive, with its slash, under which a rule takes files; None for none.

    Raises PlacingFault where several lie equally deep.
    """
    prefix = _prefix(rule, members, known)
    if prefix is None or known.depth_in(rule.to) != "once":
        return prefix
    return prefix + _same_name(rule, prefix, members, known)


def _prefix(rule: PlaceRule, members: Sequence[Member], known: KnownFolders) -> str | None:
    base, _ = split_fixed(rule.take)
    wrapper = _find_wrapper(rule, base, members, known)
    return None if wrapper is None else wrapper + base


def _same_name(rule: PlaceRule, prefix: str, members: Sequence[Member], known: KnownFolders) -> str:
    """Return the only folder of what a rule takes if it bears the target's name; else nothing.

    A rule that expects or strips something knows what it does; and so does a game that has such a folder.
    """
    _, pattern = split_fixed(rule.take)
    if pattern != "**" or rule.expect or rule.strip or shown(rule.to) == GAME:
        return ""
    folder = _only_folder(
        [each.path[len(prefix) :] for each in members if each.path.startswith(prefix)]
    )
    name = str(rule.to).rpartition("/")[2].lstrip("@")
    is_same = folder.rstrip("/").casefold() == name.casefold()
    return folder if is_same and not known.holds(rule.to, folder.rstrip("/")) else ""


def _only_folder(paths: Sequence[str]) -> str:
    """Return the one folder, with its slash, that all of some paths lie in; else nothing."""
    tops = {top_of(path) for path in paths}
    top = tops.pop() if len(tops) == 1 else ""
    return top if top.endswith("/") else ""


def _mirrored(rule: PlaceRule, members: Sequence[Member], known: KnownFolders) -> str:
    """Return the only folder of an archive where what is in it mirrors the target; else nothing."""
    top = _only_folder([member.path for member in members])
    if not top or known.holds(rule.to, top.rstrip("/")):
        return ""
    inside = {top_of(member.path[len(top) :]).rstrip("/") for member in members}
    return top if any(known.holds(rule.to, name) for name in inside) else ""


def _find_wrapper(
    rule: PlaceRule, base: str, members: Sequence[Member], known: KnownFolders
) -> str | None:
    """Return the shallowest folder, with its slash, that contains the rule's shape.

    A rule that takes all and expects nothing finds its shape in the only folder of an archive, where what is
    in that mirrors the target. Raises PlacingFault where several lie equally deep.
    """
    if not rule.expect and rule.take == "**" and not rule.strip:
        return _mirrored(rule, members, known)
    files = {member.path for member in members}
    folders = {""} | {folder for member in members for folder in _folders_above(member.path)}
    _, pattern = split_fixed(rule.take)
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


def top_of(path: str) -> str:
    """Return the first part of a path, with its slash if it is a folder."""
    head, slash, _ = path.partition("/")
    return head + slash
