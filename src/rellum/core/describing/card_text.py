"""A first card as commented TOML, what a person must still say marked."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from rellum.core.catalog.open_lines import MARK, VALUE
from rellum.core.describing.builds import NO_BUILD, BuildSign
from rellum.core.describing.naming import Guess, Naming
from rellum.core.describing.own_words import OwnWords, is_version
from rellum.core.describing.shape import Rule, Shape, as_choice
from rellum.core.values.paths import shown
from rellum.core.versions.orderings import DOTTED, LISTED, parse_version
from rellum.core.versions.version import VersionSyntaxError

_MOST_NAMES: Final = 12
OF_NAME: Final = "   # the loader that stands in its name"
_CONTROL: Final = re.compile("[\x00-\x1f\x7f-\x9f\ud800-\udfff]")
_NO_LICENCE: Final = '# licence = "CC-BY-4.0"'


@dataclass(frozen=True, slots=True, kw_only=True)
class DescribedFile:
    """One file of the archive: its parts are files of their own. ``size`` is in bytes."""

    name: str
    size: int
    sha256: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Described:
    """All that was found out of an archive. ``known_as`` is the release that a card has it as, if any.

    ``own`` is what the mods in it say about themselves.
    ``patches`` is the version that it seems to be laid over; empty: it is a release of its own.
    ``build`` is what its name tells of the game version and the loader that it is for.
    """

    naming: Naming
    shape: Shape
    files: tuple[DescribedFile, ...]
    members: int
    unpacked: int
    game_version: str
    has_card: bool
    known_as: str
    own: tuple[OwnWords, ...] = ()
    patches: str = ""
    build: BuildSign = NO_BUILD

    @property
    def order(self) -> tuple[str, object]:
        """What downloads are written by: the mod, and its versions from the oldest."""
        try:
            return self.naming.id.value, parse_version(self.naming.version.value).key
        except VersionSyntaxError:
            return self.naming.id.value, ()

    @property
    def marks(self) -> int:
        """How many lines of its card a person must still decide."""
        return card_text(self).count(f"{MARK}: ")


def card_text(described: Described) -> str:
    """Return the card. Filled in, it loads."""
    lines = [
        f"# A first card, from {', '.join(file.name for file in described.files)}: "
        f"{_count(described.members, 'file')}, {_count(described.unpacked, 'byte')} unpacked.",
    ]
    if described.known_as:
        lines.append(f"# The catalog knows this archive already: it is {described.known_as}.")
    elif described.has_card:
        lines.append(
            f"# There is a card for {described.naming.id.value} already: add only the release below to it."
        )
    lines += ["", *_head_lines(described), "", *release_lines(described)]
    return plain_lines(lines)


def plain_lines(lines: Sequence[str]) -> str:
    """Return lines as a text in which nothing can break TOML."""
    return "".join(_CONTROL.sub(_as_code, line) + "\n" for line in lines)


def _head_lines(described: Described) -> list[str]:
    naming, own = described.naming, described.own
    mod_id, name = naming.id, naming.name
    lines = [
        "[mod]",
        _line("id", mod_id.value or VALUE, mod_id.source, unsure=not mod_id.value),
        _line("name", name.value or mod_id.value or VALUE, name.source, unsure=not name.value),
    ]
    if naming.own_id and naming.own_id != mod_id.value:
        lines.append(_line("own-id", naming.own_id, naming.id.source, unsure=False))
    lines.append(_line("kind", "mod", "or library, loader, resource-pack", unsure=False))
    licence = own[0].licence if own else ""
    lines.append(
        _line("licence", licence, own[0].file, unsure=False)
        if licence
        else f"{_NO_LICENCE:<34}# an SPDX identifier, as its page says"
    )
    version = naming.version.value
    if version and not is_version(version):
        words = "its releases have names: put them in order below, the oldest first"
        return [*lines, _line("versions", LISTED, words, unsure=True)]
    words = "or semver, decimal, calendar, serial, listed"
    return [*lines, _line("versions", DOTTED.scheme, words, unsure=False)]


def release_lines(described: Described) -> list[str]:
    """Return the ``[[release]]`` of a card, with all that belongs to it."""
    lines = ["[[release]]", version_line(described.naming.version), *own_lines(described)]
    if described.patches or described.naming.is_patch:
        over = described.patches or VALUE
        why = "it has only few of that release's files" if described.patches else "its name says so"
        lines.append(
            _line("patches", over, f"{why}: the release that it is laid over", unsure=True)
        )
    for file in described.files:
        lines += ["", *file_lines(file, described)]
    for rule in described.shape.rules:
        lines += ["", *rule_lines(rule)]
    if described.shape.wrapper:
        lines += ["", f"# The wrapper {described.shape.wrapper} is seen through by itself."]
    if described.shape.left_out:
        lines += ["", *_wrapped("Left out: ", described.shape.left_out)]
    return lines + _alternatives_lines(described.shape)


def own_lines(described: Described) -> list[str]:
    """Return what a release says of the game and of other mods: its own words, else room for them."""
    own = described.own
    if not own:
        game, loader = described.build.game, described.build.loader
        words = "the version that you have; widen it as its page allows"
        return [
            _line("game", game, "the name", unsure=False)
            if game
            else _line("game", described.game_version, words, unsure=False),
            f'needs = {{ {loader} = "*" }}{OF_NAME}'
            if loader
            else '# needs = { other-mod = ">=1.0" }   # if its page names other mods',
        ]
    first = own[0]
    lines = []
    if first.game:
        lines.append(_line("game", first.game, first.file, unsure=False))
    else:
        lines.append(
            f"{'# game = ' + _quoted(described.game_version):<34}# {first.file} names no version"
        )
    for key, needs in (("needs", first.needs), ("clashes", first.clashes)):
        if needs:
            said = ", ".join(f"{each.id} = {_quoted(each.range)}" for each in needs)
            lines.append(f"{key} = {{ {said} }}")
    if first.load_after:
        after = ", ".join(_quoted(each.id) for each in first.load_after)
        lines.append(f"load = {{ after = [{after}] }}")
    if len(own) > 1:
        version = described.naming.version.value or "1"
        offers = ", ".join(f"{each.id} = {_quoted(each.version or version)}" for each in own)
        lines.append(f"offers = {{ {offers} }}")
    for each in own:
        lines += [
            f"# {MARK}: {each.file} says this, which is not understood: {said}"
            for said in each.unread
        ]
    return lines


def _as_code(sign: re.Match[str]) -> str:
    """Return a sign that must not stand in TOML as it does in a text: as an escape of TOML."""
    number = ord(sign.group())
    return "\N{REPLACEMENT CHARACTER}" if number >= 0xD800 else f"\\u{number:04x}"


def _line(key: str, value: str, comment: str, *, unsure: bool) -> str:
    mark = f"{MARK}: " if unsure else "from " if comment and "or " not in comment else ""
    text = f"{key} = {_quoted(value)}"
    return f"{text:<34}# {mark}{comment}".rstrip(" #")


def version_line(version: Guess, unknown: str = VALUE) -> str:
    """Return the line of a release's version; ``unknown`` stands for one that nobody knows yet."""
    if version.value:
        return _line("version", version.value, version.source, unsure=not version.is_sure)
    return _line("version", unknown, "nothing tells it", unsure=True)


def file_lines(file: DescribedFile, described: Described) -> list[str]:
    """Return the ``[[release.file]]`` of a file."""
    lines = [
        "  [[release.file]]",
        f"  name = {_quoted(file.name)}",
        f"  size = {file.size}",
        f'  sha256 = "{file.sha256}"',
        '  # from = ["https://…"]   # where it can be fetched,',
        '  # page = "https://…"     # or where a person gets it, and how (by-hand = "…")',
    ]
    if len(described.files) == 1:
        lines.insert(3, f"  unpacked = {described.unpacked}")
    return lines


def rule_lines(rule: Rule) -> list[str]:
    """Return the ``[[release.place]]`` of a rule."""
    mark = "" if rule.is_sure else f"{MARK}: "
    lines = [
        f"  # {mark}{rule.reason}",
        "  [[release.place]]",
        "  packed = true" if rule.is_packed else f"  take = {_quoted(rule.take)}",
        f"  to = {_quoted(rule.to)}",
    ]
    if rule.choice:
        group, choice = rule.choice
        lines.append(f"  options = {{ {group} = {_quoted(choice)} }}")
    if rule.leave_out:
        lines.append(f"  leave-out = [{', '.join(map(_quoted, rule.leave_out))}]")
    if rule.expect:
        lines.append(f"  expect = [{', '.join(map(_quoted, rule.expect))}]")
    if rule.replaces:
        names = [shown(path) for path in rule.replaces]
        lines += [
            f"  {line}" for line in _wrapped(f"Over {_count(len(names), 'vanilla file')}: ", names)
        ]
    return lines


def _alternatives_lines(shape: Shape) -> list[str]:
    """Return an option for each set of folders that are alternatives of one another."""
    lines: list[str] = []
    for each in shape.alternatives:
        where = f" in {each.above}" if each.above else ""
        lines += [
            "",
            f"# The folders{where} are alternatives of one another; the first is taken unless one chooses.",
            "[[option]]",
            f"id = {_quoted(each.group)}",
            'pick = "one"',
            f"default = {_quoted(as_choice(each.names[0]))}",
        ]
        for name in each.names:
            lines += ["  [[option.choice]]", f"  id = {_quoted(as_choice(name))}"]
    return lines


def _wrapped(lead: str, names: Sequence[str]) -> list[str]:
    """Return names as comment lines of at most 96 columns."""
    shown_names = [*names[:_MOST_NAMES]]
    if len(names) > _MOST_NAMES:
        shown_names.append(f"… and {len(names) - _MOST_NAMES:,} more")
    lines, line = [], f"# {lead}"
    for number, name in enumerate(shown_names):
        piece = name + ("," if number < len(shown_names) - 1 else "")
        if len(line) + len(piece) > 94 and line.strip("# "):
            lines.append(line.rstrip())
            line = "#   "
        line += piece + " "
    return [*lines, line.rstrip()]


def _count(number: int, noun: str) -> str:
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {noun}s"


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
