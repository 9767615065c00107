"""Want a mod, or drop it: edits of rellum.toml that are checked against the catalog first."""

from __future__ import annotations

from dataclasses import dataclass

from rellum.core.actions.catalogs import catalog_of
from rellum.core.catalog.load import find_mod
from rellum.core.errors import UserError
from rellum.core.ids import ModId
from rellum.core.nearest import nearest
from rellum.core.pack.home import pack_home
from rellum.core.pack.pack_file import read_pack_file, remove_want, set_want
from rellum.core.versions.ranges import RangeSyntaxError, parse_range
from rellum.core.versions.version import Version


class BadRange(UserError):
    """A range cannot be read, or no release lies in it."""

    code = "bad-range"


class NotWanted(UserError):
    """The pack does not want that mod."""

    code = "not-wanted"


@dataclass(frozen=True, slots=True, kw_only=True)
class WantResult:
    """A want as it stands now, and as it stood before (None: it is new)."""

    mod: ModId
    range: str
    before: str | None
    matching: tuple[Version, ...]


def want(pack_folder: str, mod_id: str, range_text: str = "*") -> WantResult:
    """Write a want into rellum.toml. Raises UnknownMod, BadRange, and what reading can raise."""
    home = pack_home(pack_folder)
    pack = read_pack_file(home)
    mod = find_mod(catalog_of(home, pack), mod_id)
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
            f"no release of {mod.id} lies in '{range_text}'",
            hint=f"It has {known}{' …' if len(mod.releases) > 12 else ''}.",
        )
    before = next((each.range_text for each in pack.wants if each.mod == mod.id), None)
    set_want(home, mod.id, range_.text)
    return WantResult(mod=mod.id, range=range_.text, before=before, matching=matching)


def drop(pack_folder: str, mod_id: str) -> str:
    """Take a want out of rellum.toml and return the range it had. Raises NotWanted."""
    home = pack_home(pack_folder)
    wants = {each.mod: each for each in read_pack_file(home).wants}
    found = wants.get(ModId(mod_id))
    if found is None:
        raise NotWanted(
            f"the pack does not want {mod_id!r}" + nearest(mod_id, wants),
            hint=f"It wants: {', '.join(wants) or 'nothing yet'}.",
        )
    remove_want(home, mod_id)
    return found.range_text
