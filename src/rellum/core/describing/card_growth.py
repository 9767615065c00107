"""Adding a release, or a build of one, to a card that is there: as text, so that comments and order stay.

What the newest release says of places, settings, needs and the rest is carried over; its files, its version
and what the new archive says about itself are the new one's.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.catalog.open_lines import MARK, VALUE
from rellum.core.describing.card_text import (
    OF_NAME,
    Described,
    DescribedFile,
    file_lines,
    own_lines,
    plain_lines,
    release_lines,
    rule_lines,
    version_line,
)

_HEADER = re.compile(r"^\s*(\[\[?)\s*([A-Za-z0-9_.\"-]+)\s*\]\]?")
_ROOM = re.compile(r"\s*# (game|needs) = ")
"""A comment of a draft that leaves room for what nobody told."""
_OWN_KEYS = ("game", "needs", "clashes", "load", "offers", "needs-one-of")
_NOT_CARRIED = ("version", "withdrawn", "patches")


@dataclass(frozen=True, slots=True)
class _Block:
    """The lines of a card from one table's header to the next. ``name`` is the table's."""

    name: str
    lines: tuple[str, ...]


def with_release(
    text: str, described: Described, like_line: int, without: frozenset[int] = frozenset()
) -> str:
    """Return a card's text with a release more, at its end.

    ``like_line`` is the line (from 1) of the header of the release that it carries over; 0: none.
    ``without`` are those of its places, from 0, that are not carried over.
    """
    block = _release_at(text.splitlines(), like_line) if like_line else ()
    unknown = text.count(f'version = "{VALUE}')
    placeholder = f"{VALUE}-{unknown + 1}" if unknown else VALUE  # no version may be there twice
    lines = _carried(block, described, placeholder, without) if block else release_lines(described)
    return f"{text.rstrip()}\n\n{plain_lines(lines)}"


def with_build(text: str, described: Described, like_line: int, builds: tuple[str, str]) -> str:
    """Return a card's text in which a release has one build more, made of a second file of its version.

    ``like_line`` is the line of the release's header. ``builds`` are the names of the build that its files
    become, empty where it has builds already, and of the new one. What the release says of the game (and, if
    mods describe themselves, of other mods) becomes the first build's.
    """
    first, name = builds
    lines = text.splitlines()
    head, *others = _release_at(lines, like_line)
    count = len(head.lines) + sum(len(block.lines) for block in others)
    written = list(head.lines)
    if first:
        moved = _OWN_KEYS if described.own else ("game",)
        kept = [line for line in _without_keys(head.lines, moved) if OF_NAME not in line]
        written = [*_without_blanks(kept), "", *_build_head(first)]
        written += [f"  {line}" for line in head.lines[1:] if line not in kept and line.strip()]
        written.append("")
    for block in others:
        moves = bool(first) and block.name in ("release.file", "release.place")
        written += map(_in_build, block.lines) if moves else block.lines
    new = [*_build_head(name), *(f"  {line}" for line in own_lines(described))]
    for file in described.files:
        new += ["", *(_in_build(line) for line in file_lines(file, described))]
    for rule in described.shape.rules:
        new += ["", *(_in_build(line) for line in rule_lines(rule))]
    after = lines[like_line - 1 + count :]
    both = [*_without_blanks(written), "", plain_lines(new).rstrip("\n")]
    return "\n".join([*lines[: like_line - 1], *both, *(["", *after] if after else [])]) + "\n"


def release_line(text: str, line: int) -> int:
    """Return the line (from 1) of the header of the release that a line belongs to."""
    lines = text.splitlines()
    return next(
        number
        for number in range(line, 0, -1)
        if (match := _HEADER.match(lines[number - 1])) and match[2] == "release"
    )


def _build_head(name: str) -> list[str]:
    return ["  [[release.build]]", f'  name = "{name}"']


def _in_build(line: str) -> str:
    """Return a line of a release as it stands in a build."""
    line = re.sub(r"^(\s*\[\[?\s*release\.)", r"\1build.", line)
    return f"  {line}" if line.strip() else line


def _without_blanks(lines: Sequence[str]) -> list[str]:
    kept = list(lines)
    while kept and not kept[-1].strip():
        kept.pop()
    return kept


def with_mark(text: str, header_line: int, words: str) -> str:
    """Return a card's text with a line under a header that a person must look at."""
    lines = text.splitlines(keepends=True)
    lines.insert(header_line, plain_lines([f"# {MARK}: {words}"]))
    return "".join(lines)


def with_words(text: str, words: Sequence[str]) -> str:
    """Return a card's text with comment lines under the header of its last release."""
    if not words:
        return text
    lines = text.splitlines(keepends=True)
    at = last_header(text)
    lines.insert(at, plain_lines([f"# {each}" for each in words]))
    return "".join(lines)


def with_patch(text: str, version: str, head: Sequence[str], lines: Sequence[str]) -> str:
    """Return a card's text in which a release is a patch, and can be had whole as it was before.

    ``head`` are the lines that make it one, ``lines`` the tables of the patch's files, places and edits.
    """
    all_lines = text.splitlines()
    starts = [
        number
        for number, line in enumerate(all_lines, 1)
        if (match := _HEADER.match(line)) and match[2] == "release"
    ]
    said = re.compile(rf'\s*version\s*=\s*["\']{re.escape(version)}["\']')
    for start in starts:
        first, *others = _release_at(all_lines, start)
        if any(map(said.match, first.lines)):
            break
    else:
        raise ValueError(f"no release {version} in this card")
    count = len(first.lines) + sum(len(block.lines) for block in others)
    at = next(n for n, line in enumerate(first.lines) if said.match(line))
    kept = _without_blanks([*first.lines[: at + 1], *head, *first.lines[at + 1 :]])
    whole: list[str] = []
    for block in others:
        whole += [
            re.sub(r"\[\[release\.(file|place|edit)", r"[[release.full.\1", line)
            for line in block.lines
        ]
    before, after = all_lines[: start - 1], all_lines[start - 1 + count :]
    written = [*before, *kept, *lines, "", *_without_blanks(whole)]
    return "\n".join([*written, *(["", *after] if after else [])]) + "\n"


def with_licence(text: str, licence: str) -> str:
    """Return a card's text that says under which licence its mod stands."""
    lines = text.splitlines(keepends=True)
    start = next(at for at, line in enumerate(lines) if re.match(r"\s*\[\s*mod\s*\]", line))
    after = range(start + 1, len(lines))
    end = next((at for at in after if _HEADER.match(lines[at])), len(lines))
    new = f'licence = "{licence}"\n'
    for at in range(start + 1, end):
        if re.match(r"\s*#?\s*licence\s*=", lines[at]):
            lines[at] = new
            return "".join(lines)
    while not lines[end - 1].strip():
        end -= 1
    lines.insert(end, new)
    return "".join(lines)


def with_new_file(text: str, old_sha256: str, file: DescribedFile, unpacked: int) -> str:
    """Return a card's text in which a release's archive is another one: size and hash of the new one.

    The archive is found by its hash, which stands in the card once. Raises ValueError where it does not.
    """
    lines = text.splitlines(keepends=True)
    [at] = [number for number, line in enumerate(lines) if old_sha256 and old_sha256 in line]
    start = next(each for each in range(at, -1, -1) if _HEADER.match(lines[each]))
    after = range(at + 1, len(lines))
    end = next((each for each in after if _HEADER.match(lines[each])), len(lines))
    values = {"size": f"{file.size}", "sha256": f'"{file.sha256}"', "unpacked": f"{unpacked}"}
    for each in range(start + 1, end):
        for key, value in values.items():
            lines[each] = re.sub(rf"^(\s*{key}\s*=\s*)[^\s#]+", rf"\g<1>{value}", lines[each])
    return "".join(lines)


def last_header(text: str) -> int:
    """Return the line (from 1) of the header of the last release of a card."""
    found = [
        number
        for number, line in enumerate(text.splitlines(), 1)
        if (match := _HEADER.match(line)) and match[2] == "release"
    ]
    return found[-1] if found else 0


def _release_at(lines: Sequence[str], line: int) -> tuple[_Block, ...]:
    """Return the blocks of the release whose header stands on a line."""
    blocks: list[_Block] = []
    inside: list[str] = []
    name = ""
    for text in lines[line - 1 :]:
        match = _HEADER.match(text)
        if match:
            if inside:
                blocks.append(_Block(name, tuple(inside)))
                inside = []
            name = match[2]
            if blocks and not name.startswith("release."):
                break
        inside.append(text)
    else:
        blocks.append(_Block(name, tuple(inside)))
    return tuple(blocks)


def _carried(
    blocks: Sequence[_Block], described: Described, unknown: str, without: frozenset[int]
) -> list[str]:
    """Return the lines of a new release like an old one."""
    head, *others = blocks
    lines = ["[[release]]", version_line(described.naming.version, unknown)]
    dropped = _NOT_CARRIED + (_OWN_KEYS if described.own else ())
    lines += own_lines(described) if described.own else []
    lines += _without_keys(head.lines[1:], dropped)
    if described.patches:
        lines.insert(2, f'patches = "{described.patches}"   # {MARK}: it has only few of its files')
    while lines and not lines[-1].strip():
        lines.pop()
    for file in described.files:
        lines += ["", *file_lines(file, described)]
    places = [block for block in others if block.name == "release.place"]
    dropped_places = [places[each] for each in without if each < len(places)]
    for block in others:
        if block in dropped_places:
            continue
        if not block.name.startswith(("release.file", "release.full", "release.build")):
            carried = _trimmed(block.lines)
            # A patch has few of the files, and need not have those that a full release must have.
            lines += ["", *(_without_keys(carried, ("expect",)) if described.patches else carried)]
    return lines


def _trimmed(lines: Sequence[str]) -> list[str]:
    """Return a block without the blanks and comments at its end, which belong to what follows."""
    kept = list(lines)
    while kept and (not kept[-1].strip() or kept[-1].lstrip().startswith("#")):
        kept.pop()
    return kept


def _without_keys(lines: Sequence[str], keys: Sequence[str]) -> list[str]:
    """Return the lines of a table without some keys, with all the lines that their values take."""
    found: list[str] = []
    depth = 0
    skips = False
    for line in lines:
        key = re.match(r"\s*([A-Za-z0-9_-]+)\s*=", line)
        if depth == 0:
            skips = bool(key and key[1] in keys) or MARK in line or _ROOM.match(line) is not None
        plain = re.sub(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'|#.*', "", line)
        depth = max(0, depth + len(re.findall(r"[\[{]", plain)) - len(re.findall(r"[\]}]", plain)))
        if not skips:
            found.append(line)
    return found
