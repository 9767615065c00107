"""Want a mod, drop it, hold a release: edits of rellum.toml, checked against the catalog first."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rellum.core.catalog.load import find_mod
from rellum.core.catalog.model import Mod
from rellum.core.catalog.release_rules import Source
from rellum.core.change.opening import hold_for_edit
from rellum.core.change.request import Request
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.pack.catalogs import catalog_of
from rellum.core.pack.home import pack_home
from rellum.core.pack.pack_edits import remove_hold, remove_want, set_hold, set_wants
from rellum.core.pack.pack_file import WantLine, read_pack_file
from rellum.core.pack.variants import VANILLA, NoVariant
from rellum.core.shelf.store import Shelf
from rellum.core.values.ids import ModId
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import RangeSyntaxError, parse_range
from rellum.core.versions.version import Version, VersionSyntaxError


class BadRange(UserError):
    """A range cannot be read, or no release lies in it."""

    code = "bad-range"


class NotWanted(UserError):
    """The pack does not want that mod."""

    code = "not-wanted"


class NotHeld(UserError):
    """The pack does not hold that mod."""

    code = "not-held"


class BadOption(UserError):
    """A mod has no such option, or no such choice of it."""

    code = "bad-option"


class UnknownRelease(UserError):
    """A card has no release of that version."""

    code = "unknown-release"


Options = Mapping[str, tuple[str, ...]]


@dataclass(frozen=True, slots=True, kw_only=True)
class WantResult:
    """A want now, and before (None: it is new)."""

    mod: ModId
    range: str
    optional: bool
    before: str | None
    matching: tuple[Version, ...]


def want(
    request: Request,
    words: Sequence[str],
    *,
    optional: bool | None = None,
    options: Options | None = None,
) -> list[WantResult]:
    """Write wants into rellum.toml, all or none; ``words`` are mods, or ``mod@RANGE``.

    ``optional`` None: as it was; ``options`` are choices by group, beside those it has; where only such
    things are said, the range stays. Raises UnknownMod, BadRange, BadOption, and what reading can raise.
    """
    with hold_for_edit(request) as home:
        pack = read_pack_file(home)
        if pack.variant == VANILLA:
            raise NoVariant(
                "the variant vanilla has no mods",
                hint="Switch first, for example: rellum variant use main. 'rellum variant' lists them.",
            )
        catalog = catalog_of(home, pack)
        found = []
        for word in dict.fromkeys(words):
            mod_id, range_text = split_want(word)
            mod = find_mod(catalog, mod_id)
            before = next((each for each in pack.wants if each.mod == mod.id), None)
            line, matching = _want_line(mod, before, range_text, optional, options)
            found.append((line, before, matching))
        set_wants(home, [line for line, _, _ in found])
        return [
            WantResult(
                optional=line.optional,
                mod=line.mod,
                range=line.range_text,
                before=before.range_text if before else None,
                matching=matching,
            )
            for line, before, matching in found
        ]


def _want_line(
    mod: Mod,
    before: WantLine | None,
    range_text: str,
    optional: bool | None,
    options: Options | None,
) -> tuple[WantLine, tuple[Version, ...]]:
    """Return a want as the pack's file has it, and the releases it means. Raises BadRange, BadOption."""
    only_more = before is not None and (options or optional is not None)
    range_text = range_text or (before.range_text if before and only_more else "*")
    try:
        range_ = parse_range(range_text, mod.ordering)
    except RangeSyntaxError as error:
        raise BadRange(
            str(error),
            details=(range_text, " " * error.position + "^"),
            hint="A range joins comparisons by ',' (and) or '|' (or).",
        ) from error
    matching = tuple(each.version for each in mod.releases if each.version in range_)
    if not matching:
        known = ", ".join(str(each.version) for each in mod.releases[:12])
        raise BadRange(
            f"no release of {mod.id} matches '{range_text}'",
            hint=f"It has {known}{' …' if len(mod.releases) > 12 else ''}.",
        )
    chosen = dict(before.options) if before else {}
    chosen |= _checked_options(mod, options or {})
    line = WantLine(
        mod=mod.id,
        range_text=range_.text,
        source=Source(file=""),
        optional=(before is not None and before.optional) if optional is None else optional,
        options=tuple(chosen.items()),
    )
    return line, matching


def split_want(word: str) -> tuple[str, str]:
    """Split ``mod@RANGE``; ``3+`` is at least 3, so that no shell takes a sign for itself."""
    mod, _, said = word.partition("@")
    at_least = re.fullmatch(r"(?P<version>[^,|<>=!*]+)\+", said.strip())
    return mod, f">={at_least['version']}" if at_least else said


def mods_on_shelf(request: Request) -> list[str]:
    """Return the mods that the pack does not want yet and that have a complete release on the shelf.

    One whose releases there are all pre-releases is named with its newest: ``tides@>=2.0-beta``.

    A mod that only others need is none of them: it comes with those. Raises what reading can raise.
    """
    home = pack_home(request.pack_folder)
    pack = read_pack_file(home)
    catalog = catalog_of(home, pack)
    wanted = {each.mod for each in pack.wants}
    with Shelf(request.shelf_folder) as shelf:
        here = [mod for mod in catalog.mods.values() if _is_on(shelf, mod)]
    needed = {
        each.mod
        for mod in here
        for need in mod.releases[0].needs
        for each in need.any_of
        if len(need.any_of) == 1
    }
    return [
        _as_word(mod)
        for mod in here
        if mod.id not in wanted and not (mod.kind == "library" and mod.id in needed)
    ]


def _as_word(mod: Mod) -> str:
    finished = [each.version for each in mod.releases if not each.version.is_prerelease]
    return mod.id if finished else f"{mod.id}@>={mod.releases[0].version.text}"


def _is_on(shelf: Shelf, mod: Mod) -> bool:
    """Whether the shelf has all files of one of a mod's releases."""
    return any(
        release.files
        and not release.open_lines
        and all(shelf.find(file, release) for file in release.files)
        for release in mod.releases
    )


def _checked_options(mod: Mod, options: Options) -> Options:
    groups = {group.id: group for group in mod.options}
    for name, chosen in options.items():
        group = groups.get(name)
        if group is None:
            raise BadOption(
                f"{mod.id} has no option {name!r}" + nearest(name, groups),
                hint=f"It has {', '.join(groups) or 'none'}.",
            )
        choices = [each.id for each in group.choices]
        wrong = [each for each in chosen if each not in choices]
        if wrong or (group.pick == "one" and len(chosen) != 1):
            what = f"{wrong[0]!r} is not a choice of" if wrong else "choose exactly one of"
            raise BadOption(
                f"{what} {mod.id}'s option {name!r}", hint=f"There are {', '.join(choices)}."
            )
    return options


def hold(request: Request, mod_id: str, version_text: str, reason: str) -> Version:
    """Pin a release in rellum.toml and return its version.

    Raises UnknownMod, UnknownRelease, and what reading can raise.
    """
    with hold_for_edit(request) as home:
        mod = find_mod(catalog_of(home, read_pack_file(home)), mod_id)
        version = find_release_version(mod, version_text)
        set_hold(home, mod.id, version.text, reason)
        return version


def find_release_version(mod: Mod, text: str) -> Version:
    """Return a version that the card has, however it is written. Raises UnknownRelease."""
    known = [each.version.text for each in mod.releases]
    try:
        release = mod.release(parse_version(text, mod.ordering))
    except VersionSyntaxError:
        release = None
    if release is None:
        raise UnknownRelease(
            f"{mod.id} has no release {text!r}" + nearest(text, known),
            hint=f"It has {', '.join(known[:12])}{' …' if len(known) > 12 else ''}.",
        )
    return release.version


def let_go(request: Request, mod_id: str) -> str:
    """Take a hold out of rellum.toml and return the version it had. Raises NotHeld."""
    with hold_for_edit(request) as home:
        holds = {each.mod: each for each in read_pack_file(home).holds}
        found = holds.get(ModId(mod_id))
        if found is None:
            raise NotHeld(
                f"the pack has no hold on {mod_id!r}" + nearest(mod_id, holds),
                hint=f"It holds: {', '.join(holds) or 'nothing'}.",
            )
        remove_hold(home, mod_id)
        return found.version_text


def drop(request: Request, mod_id: str) -> str:
    """Take a want out of rellum.toml and return the range it had. Raises NotWanted."""
    with hold_for_edit(request) as home:
        wants = {each.mod: each for each in read_pack_file(home).wants}
        found = wants.get(ModId(mod_id))
        if found is None:
            raise NotWanted(
                f"the pack does not want {mod_id!r}" + nearest(mod_id, wants),
                hint=f"It wants: {', '.join(wants) or 'nothing yet'}.",
            )
        remove_want(home, mod_id)
        return found.range_text
