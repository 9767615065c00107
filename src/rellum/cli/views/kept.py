"""What ``rellum kept`` shows."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.owners import FOREIGN

if TYPE_CHECKING:
    from rellum.cli.documents.mend import KeptDocument
    from rellum.core.actions.mend.kept import KeptCopy


_MOST_NUMBERS = 100_000


def tell(word: str, lines: list[str]) -> None:
    from rellum.cli.views.plans import MOST_LINES

    for line in lines[:MOST_LINES]:
        console.say(f"{word}: {line}")
    if len(lines) > MOST_LINES:
        console.say(f"… and {len(lines) - MOST_LINES:,} more")


def numbers(text: str) -> range:
    """Return the numbers that ``7`` or ``3-7`` means. Raises BadCall."""
    found = re.fullmatch(r"([0-9]{1,9})(?:-([0-9]{1,9}))?", text)
    first, last = (int(found[1]), int(found[2] or found[1])) if found else (0, 0)
    if not found or not 0 <= last - first < _MOST_NUMBERS:
        raise console.BadCall(f"{text!r} is no number of a copy; write 7, or 3-7")
    return range(first, last + 1)


def table(copies: list[KeptCopy]) -> None:
    from rellum.core.values.paths import shown

    rows = [
        (
            str(each.kept.number),
            _moment(each.kept.kept_at),
            console.bytes_text(each.kept.size) if each.is_there else "gone",
            shown(each.kept.path),
            _why(each),
        )
        for each in copies
    ]
    console.table(("no.", "kept (UTC)", "size", "file", "why"), rows, right=(0, 2))


def show_grouped(copies: list[KeptCopy]) -> None:
    """Show the copies of each change in one line, the newest change first."""
    from rellum.core.values.paths import shown

    groups: dict[tuple[str, str], list[KeptCopy]] = {}
    for each in copies:
        groups.setdefault((each.kept.kept_at, _why(each)), []).append(each)
    rows = []
    for (moment, why), members in groups.items():
        numbers = [each.kept.number for each in members]
        first = shown(min(each.kept.path for each in members))
        files = first if len(members) == 1 else f"{len(members):,} files, e.g. {first}"
        size = console.bytes_text(sum(each.kept.size for each in members))
        rows.append((_ranges(numbers), _moment(moment), size, files, why))
    console.table(("no.", "kept (UTC)", "size", "files", "why"), rows, right=(2,))
    console.say("'rellum kept --full' lists each of them.")


def _ranges(numbers: list[int]) -> str:
    """Return numbers as text, those in a row from the first to the last."""
    runs: list[list[int]] = []
    for number in sorted(numbers):
        if runs and runs[-1][-1] == number - 1:
            runs[-1][1:] = [number]
        else:
            runs.append([number])
    more = " …" if len(runs) > 3 else ""
    return " ".join("-".join(map(str, run)) for run in runs[:3]) + more


def _moment(text: str) -> str:
    return text.replace("T", " ").removesuffix("Z")


def _why(copy: KeptCopy) -> str:
    """Say whose path it was and why it was kept."""
    kept = copy.kept
    if kept.aside_for:
        return f"yours; comes back with {kept.aside_for}"
    by = f"before '{kept.action}'" if kept.action else "by an older Rellum"
    if kept.owner is FOREIGN:
        return f"yours; {by}"
    whose = f"{kept.owner}, " if kept.owner else ""
    return f"{whose}changed; {by}"


def document(copy: KeptCopy) -> KeptDocument:
    from rellum.cli.documents.shared import owner_document

    kept = copy.kept
    return {
        "number": kept.number,
        "path": kept.path,
        "bytes": kept.size,
        "blake3": kept.digest,
        "kept_at": kept.kept_at,
        "owner": owner_document(kept.owner),
        "comes_back_with": kept.aside_for or None,
        "kept_by": kept.action or None,
        "is_there": copy.is_there,
    }
