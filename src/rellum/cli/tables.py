"""Laying out tables in the columns that there are: words stay whole, numbers keep their digits.

A table that is too wide has its widest columns of text narrowed: words wrap, and paths lose their middle.
Where even that is too wide, each row becomes a block of lines, a heading and its value on each.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, NamedTuple

GAP: Final = 2
"""Blanks between two columns."""

_WIDEST_WORD: Final = 32
"""A column is narrowed to its longest word, but never asks for more than this for it."""
_LEAST: Final = 8
_MOST_LINES: Final = 6
"""A row that would take more lines than this is not wrapped: the table becomes blocks."""


class Layout(NamedTuple):
    """Lines of a table: the heading's, then for each row its lines."""

    heading: list[str]
    rows: list[list[str]]


def width_of(text: str) -> int:
    """Return how many columns a text takes on a terminal."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def lay_out(
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    right: Sequence[int],
    room: int | None,
) -> Layout:
    """Return the lines of a table within ``room`` columns; None: as wide as it is."""
    widths = [max(map(width_of, column)) for column in zip(headings, *rows, strict=True)]
    if room is not None and _total(widths) > room:
        narrowed = _narrowed(widths, headings, rows, right, room)
        if narrowed is None:
            return _blocks(headings, rows, room)
        widths = narrowed
        wrapped = [_wrapped(row, widths, right) for row in rows]
        if any(len(lines) > _MOST_LINES for lines in wrapped):
            return _blocks(headings, rows, room)
        return Layout([_line(headings, widths, right)], wrapped)
    return Layout([_line(headings, widths, right)], [[_line(row, widths, right)] for row in rows])


def _total(widths: Sequence[int]) -> int:
    return sum(widths) + GAP * (len(widths) - 1)


def _narrowed(
    widths: Sequence[int],
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    right: Sequence[int],
    room: int,
) -> list[int] | None:
    """Return widths that fit, the widest columns of text narrowed first; None where none do."""
    least = [
        width if number in right else min(width, _least_width(column))
        for number, (width, column) in enumerate(
            zip(widths, zip(headings, *rows, strict=True), strict=True)
        )
    ]
    if _total(least) > room:
        return None
    found = list(widths)
    while (over := _total(found) - room) > 0:
        spare = [now - low for now, low in zip(found, least, strict=True)]
        widest = max((n for n, each in enumerate(spare) if each), key=found.__getitem__)
        others = [found[n] for n, each in enumerate(spare) if each and n != widest]
        step = found[widest] - max([*others, least[widest]])
        found[widest] -= max(1, min(over, spare[widest], step or 1))
    return found


def _least_width(column: Sequence[str]) -> int:
    words = [word for cell in column for word in cell.split()]
    longest = max((width_of(word) for word in words if "/" not in word), default=_LEAST)
    path = max((width_of(word) for word in words if "/" in word), default=_LEAST)
    return max(_LEAST, min(longest, _WIDEST_WORD), min(path, _WIDEST_WORD - _LEAST))


def _wrapped(row: Sequence[str], widths: Sequence[int], right: Sequence[int]) -> list[str]:
    cells = [fold(cell, width) for cell, width in zip(row, widths, strict=True)]
    height = max(map(len, cells))
    padded = [[*lines, *[""] * (height - len(lines))] for lines in cells]
    return [_line(line, widths, right) for line in zip(*padded, strict=True)]


def fold(text: str, width: int) -> list[str]:
    """Return a text in lines of at most ``width`` columns; a path that is too long loses its middle."""
    lines: list[str] = []
    for word in text.split(" "):
        piece = shortened(word, width)
        if lines and width_of(lines[-1]) + 1 + width_of(piece) <= width:
            lines[-1] += f" {piece}"
        else:
            lines.append(piece)
    return lines


def shortened(text: str, width: int) -> str:
    """Return a path or a word within ``width`` columns; one that is too long loses its middle."""
    if width_of(text) <= width:
        return text
    keep = width - 1
    tail = text[-(keep - keep // 3) :]
    if "/" in tail[1:]:
        tail = tail[tail.index("/", 1) :] if len(tail) - tail.index("/", 1) > keep // 4 else tail
    head = text[: max(0, keep - len(tail))]
    while width_of(head) + 1 + width_of(tail) > width:  # wide signs
        head, tail = (head[:-1], tail) if head else (head, tail[1:])
    return f"{head}…{tail}"


def _line(cells: Sequence[str], widths: Sequence[int], right: Sequence[int]) -> str:
    padded = []
    for position, (cell, width) in enumerate(zip(cells, widths, strict=True)):
        blanks = " " * (width - width_of(cell))
        padded.append(blanks + cell if position in right else cell + blanks)
    return (" " * GAP).join(padded).rstrip()


def _blocks(headings: Sequence[str], rows: Sequence[Sequence[str]], room: int) -> Layout:
    """Return each row as a block: its first cell alone, the others below, each with its heading."""
    width = max(map(width_of, headings[1:]), default=0)
    found = []
    for first, *others in rows:
        lines = fold(first, room)
        for heading, cell in zip(headings[1:], others, strict=True):
            if not cell:
                continue
            head = " " * GAP + heading.ljust(width) + " " * GAP
            folded = fold(cell, max(_LEAST, room - len(head)))
            lines += [f"{head}{folded[0]}", *(" " * len(head) + line for line in folded[1:])]
        found.append(lines)
    return Layout([headings[0]], found)
