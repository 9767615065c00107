"""A first card as commented TOML, what a person must still say marked."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from rellum.core.describing.naming import Guess, Naming
from rellum.core.describing.shape import Rule, Shape, as_choice
from rellum.core.values.paths import shown

MARK: Final = "FILL IN"
"""Stands in each line that a person must look at."""
_MOST_NAMES: Final = 12
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
    """All that was found out of an archive. ``known_as`` is the release that a card has it as, if any."""

    naming: Naming
    shape: Shape
    files: tuple[DescribedFile, ...]
    members: int
    unpacked: int
    game_version: str
    has_card: bool
    known_as: str


def card_text(described: Described) -> str:
    """Return the card. Filled in, it loads."""
    naming, mod_id = described.naming, described.naming.id
    lines = [
        f"# A first card, from {', '.join(file.name for file in described.files)}: "
        f"{described.members:,} files, {described.unpacked:,} bytes unpacked.",
        f"# Look at each line marked {MARK}; then put it into the catalog's cards folder, and 'rellum vet'.",
    ]
    if described.known_as:
        lines.append(f"# The catalog knows this archive already: it is {described.known_as}.")
    elif described.has_card:
        lines.append(
            f"# There is a card for {mod_id.value} already: add only the release below to it."
        )
    lines += [
        "",
        "[mod]",
        _line("id", mod_id.value or "FILL-IN", mod_id.source, unsure=not mod_id.value),
        _line(
            "name", naming.name.value or "FILL-IN", naming.name.source, unsure=not naming.name.value
        ),
        _line("kind", "mod", "or library, loader, resource-pack", unsure=True),
        f"{_NO_LICENCE:<34}# {MARK}: an SPDX identifier, as its page says",
        _line("versions", "dotted", "or semver, decimal, calendar, serial, listed", unsure=False),
        "",
        "[[release]]",
        _version_line(naming.version),
        _line(
            "game",
            described.game_version,
            "the versions that its page names; this is the pack's",
            unsure=True,
        ),
        f'# needs = {{ other-mod = ">=1.0" }}   # {MARK}, or take the line out',
    ]
    if naming.is_patch:
        lines.append(
            f'# patches = "VERSION"   # {MARK}: its name says that it goes over another release'
        )
    for file in described.files:
        lines += ["", *_file_lines(file, described)]
    for rule in described.shape.rules:
        lines += ["", *_rule_lines(rule)]
    if described.shape.wrapper:
        lines += ["", f"# The wrapper {described.shape.wrapper} is seen through by itself."]
    if described.shape.left_out:
        lines += ["", *_wrapped("Left out: ", described.shape.left_out)]
    lines += _alternatives_lines(described.shape)
    return "".join(_CONTROL.sub(_as_code, line) + "\n" for line in lines)


def _as_code(sign: re.Match[str]) -> str:
    """Return a sign that must not stand in TOML as it does in a text: as an escape of TOML."""
    number = ord(sign.group())
    return "\N{REPLACEMENT CHARACTER}" if number >= 0xD800 else f"\\u{number:04x}"


def _line(key: str, value: str, comment: str, *, unsure: bool) -> str:
    mark = f"{MARK}: " if unsure else "from " if comment and "or " not in comment else ""
    text = f"{key} = {_quoted(value)}"
    return f"{text:<34}# {mark}{comment}".rstrip(" #")


def _version_line(version: Guess) -> str:
    if version.value:
        return _line("version", version.value, version.source, unsure=False)
    return _line("version", "FILL-IN", "nothing tells it", unsure=True)


def _file_lines(file: DescribedFile, described: Described) -> list[str]:
    lines = [
        "  [[release.file]]",
        f"  name = {_quoted(file.name)}",
        f"  size = {file.size}",
        f'  sha256 = "{file.sha256}"',
        f'  # from = ["https://…"]   # {MARK}: where it can be fetched,',
        f'  # page = "https://…"     # {MARK}: or where a person gets it, and how (by-hand = "…")',
    ]
    if len(described.files) == 1:
        lines.insert(3, f"  unpacked = {described.unpacked}")
    return lines


def _rule_lines(rule: Rule) -> list[str]:
    mark = "" if rule.is_sure else f"{MARK}: "
    lines = [
        f"  # {mark}{rule.reason}",
        "  [[release.place]]",
        f"  take = {_quoted(rule.take)}",
        f"  to = {_quoted(rule.to)}",
    ]
    if rule.choice:
        group, choice = rule.choice
        lines.append(f"  options = {{ {group} = {_quoted(choice)} }}")
    if rule.expect:
        lines.append(f"  expect = [{', '.join(map(_quoted, rule.expect))}]")
    if rule.replaces:
        names = [shown(path) for path in rule.replaces]
        count = "1 vanilla file" if len(names) == 1 else f"{len(names):,} vanilla files"
        lines += [f"  {line}" for line in _wrapped(f"Over {count}: ", names)]
    return lines


def _alternatives_lines(shape: Shape) -> list[str]:
    """Return an option for each set of folders that are alternatives of one another."""
    lines: list[str] = []
    for each in shape.alternatives:
        where = f" in {each.above}" if each.above else ""
        lines += [
            "",
            f"# {MARK}: the folders{where} are alternatives of one another. What is the choice about?",
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


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
