"""Placing: which member of an archive becomes which file of the game.

A rule's ``take`` is looked for at the top of the archive and, where it is not there, one folder
deeper and deeper: archives are often wrapped in a folder, or two, that the game must not see.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence

from rellum.core.archives.model import Member
from rellum.core.catalog.model import PlaceRule
from rellum.core.catalog.toml_lines import place_of
from rellum.core.errors import UserError
from rellum.core.layers.model import LayerFile
from rellum.core.paths import MemberPath, below
from rellum.core.shelf.index import ShelfEntry

_WILDCARD = re.compile(r"[*?\[]")


class PlacingFault(UserError):
    """An archive does not have the shape that its card describes."""

    code = "placing-fault"


def place_archives(
    rules: Sequence[PlaceRule], archives: Sequence[tuple[ShelfEntry, Sequence[Member]]]
) -> tuple[LayerFile, ...]:
    """Return the files that a release lays, by its rules in order; a later rule wins.

    Each rule must find something in at least one of the archives. Raises PlacingFault.
    """
    placed: dict[str, LayerFile] = {}
    for rule in rules:
        found_any = False
        for entry, members in archives:
            for file in _apply_rule(rule, entry, members):
                placed[file.path] = file
                found_any = True
        if not found_any:
            raise _not_found(rule, archives)
    return tuple(placed.values())


def _apply_rule(
    rule: PlaceRule, entry: ShelfEntry, members: Sequence[Member]
) -> Iterator[LayerFile]:
    base, pattern = _split(rule.take)
    wrapper = _find_wrapper(rule, base, members)
    if wrapper is None:
        return
    prefix = wrapper + base
    fits = _matcher(pattern)
    for member in members:
        if member.path.startswith(prefix) and fits(rest := member.path[len(prefix) :]):
            yield LayerFile(path=below(rule.to, rest), archive=entry.digest, member=member)


def _split(take: str) -> tuple[str, str]:
    """Split ``Tides/data/**`` into the fixed folder ``Tides/data/`` and the pattern ``**``."""
    wild = _WILDCARD.search(take)
    cut = take.rfind("/", 0, wild.start() if wild else len(take)) + 1
    return take[:cut], take[cut:]


def _matcher(pattern: str) -> Callable[[str], bool]:
    """Return the test of a glob in which ``**`` crosses folders and ``*`` does not."""
    if pattern == "**":
        return lambda _: True
    if not _WILDCARD.search(pattern):
        return lambda rest: rest == pattern
    from wcmatch import glob

    compiled = glob.compile(
        pattern, flags=glob.GLOBSTAR | glob.CASE | glob.DOTGLOB | glob.FORCEUNIX
    )
    return lambda rest: bool(compiled.match(rest))


def _find_wrapper(rule: PlaceRule, base: str, members: Sequence[Member]) -> str | None:
    """Return the shallowest folder, with its slash, under which the rule's shape is found.

    Raises PlacingFault where several lie equally deep.
    """
    files = {member.path for member in members}
    folders = {""} | {folder for member in members for folder in _folders_above(member.path)}
    _, pattern = _split(rule.take)
    needed = [*rule.expect]
    if not _WILDCARD.search(pattern):
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


def _not_found(
    rule: PlaceRule, archives: Sequence[tuple[ShelfEntry, Sequence[Member]]]
) -> PlacingFault:
    wanted = f"'{rule.take}'"
    if rule.expect:
        wanted += f" with {' and '.join(rule.expect)}"
    found = sorted({_top(member.path) for _, members in archives for member in members})
    names = ", ".join(entry.name for entry, _ in archives)
    there = ", ".join(found[:8]) + (" …" if len(found) > 8 else "")
    return PlacingFault(
        f"{place_of(rule.source)}: {wanted} is not in {names}",
        details=(f"found at its top: {there or 'nothing'}",),
        hint="Correct 'take' or 'expect' in the card, or take the right archive.",
    )


def _top(path: str) -> str:
    head, slash, _ = path.partition("/")
    return head + slash
