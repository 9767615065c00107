"""Reading a journal back: whole, torn (it ends before ``ready`` was complete), or damaged.

Only a whole one is acted on, and a torn one is taken back. In a damaged one each line that passes its check
is still to be relied on; nothing else is.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from rellum.core.change.journal import FORMAT, Journal, PackChange, Step
from rellum.core.change.journal_lines import Lines, Record, read_lines
from rellum.core.errors import BegunOnly, UserError
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.pack.kept_copies import Kept
from rellum.core.pack.state_change import PackTexts
from rellum.core.values.content import Content, Laid
from rellum.core.values.owners import FOREIGN, Owner, owner_of_text, owner_or_nobody
from rellum.core.values.paths import PlacePath, Roots

_FORMAT_BEFORE = 4
"""It differs in how owners are written, and is read all the same."""


class NewerJournal(UserError):
    """An interrupted change was begun by a Rellum of another format of journals."""

    code = "newer-journal"


class Salvage(NamedTuple):
    """What is left of a damaged journal.

    ``journal`` has what passes its check: the steps, and if ``has_extent`` all else that the change is. Its
    id and roots are empty unless ``has_begin``. ``lost`` counts the steps that are lost; None: unknown.
    """

    journal: Journal
    has_begin: bool
    has_extent: bool
    lost: int | None


class JournalDamaged(BegunOnly):
    """The journal of an interrupted change is damaged: nothing is acted on until that is looked at."""

    code = "journal-damaged"

    def __init__(self, salvage: Salvage, path: str) -> None:
        action = f" of '{salvage.journal.action}'" if salvage.has_begin else ""
        super().__init__(
            f"a change{action} was interrupted, and its journal is damaged: {path}",
            hint="Nothing is touched before that is looked at: 'rellum restore --interrupted' compares the "
            "folder with what is known, and brings it back to before that change.",
        )
        self.salvage = salvage


def read_journal(path: str) -> Journal | None:
    """Read a journal back; None where there is none.

    Raises JournalDamaged; NewerJournal where it is of another format; OSError.
    """
    try:
        with open(path, "rb") as file:
            lines = read_lines(file.read())
    except FileNotFoundError:
        return None
    begin = lines.records[0] if lines.records else None
    if begin and begin["begin"]["format"] not in (FORMAT, _FORMAT_BEFORE):
        raise NewerJournal(
            f"a change was interrupted whose journal has format {begin['begin']['format']}, and this Rellum "
            f"writes {FORMAT}: {path}",
            hint="Nothing was changed. Use the version of Rellum that began the change to finish it.",
        )
    last = lines.records[-1] if lines.records else None
    if begin is None or None in lines.records:
        raise JournalDamaged(_salvaged(lines), path)
    if last and "ready" in last:
        if last["ready"] != hash_bytes(lines.content[: lines.ends[-2]]):
            raise JournalDamaged(_salvaged(lines), path)
        return _salvaged(lines).journal._replace(
            is_ready=True,
            # Whatever stands in the place of 'undo' was begun to be written there.
            is_undoing=bool(lines.rest.strip()),
        )
    if not lines.rest.isascii() or b"\0" in lines.rest:  # no line was ever written like that
        raise JournalDamaged(_salvaged(lines), path)
    return _salvaged(lines).journal


def salvage_of(path: str) -> Salvage:
    """Return what is left of a journal, whatever it is. Raises OSError."""
    with open(path, "rb") as file:
        return _salvaged(read_lines(file.read()))


def _salvaged(lines: Lines) -> Salvage:
    """Return what the lines say that pass their check."""
    begin = lines.records[0] if lines.records else None
    steps = tuple(_step(each["operation"]) for each in _holding("operation", lines.records))
    extent = next((each["extent"] for each in _holding("extent", lines.records)), None)
    journal = _begun(begin["begin"] if begin else None)._replace(steps=steps)
    return Salvage(
        journal=_whole(journal, extent) if extent else journal,
        has_begin=begin is not None,
        has_extent=extent is not None,
        lost=extent["operations"] - len(steps) if extent else None,
    )


def _holding(kind: str, records: Iterable[Record | None]) -> Iterable[Record]:
    return (each for each in records if each and kind in each)


def _begun(begin: Record | None) -> Journal:
    if begin is None:
        return Journal(id="", action="", roots=Roots(""))
    return Journal(
        id=begin["id"],
        action=begin["action"],
        roots=Roots(begin["game"], begin["outside"]),
        pack_id=begin.get("pack", ""),
        made_for_roots=tuple(begin["made-for-roots"]),
        brings=tuple(begin["brings"]),
    )


def _whole(journal: Journal, extent: Record) -> Journal:
    """Take in all that a change is beside its steps."""
    return journal._replace(
        new_folders=tuple(extent["new-folders"]),
        spare_folders=tuple(extent["spare-folders"]),
        laid=tuple(
            Laid(
                path=path,
                owner=_owner(owner) or FOREIGN,
                content=_content(content),
                under=_content(under),
                role=role,
                base=base,
            )
            for path, owner, content, under, role, base in extent["laid"]
        ),
        no_longer_laid=tuple(extent["no-longer-laid"]),
        kept=tuple(_kept(*kept) for kept in extent["kept"]),
        returned=tuple(extent["returned"]),
        bases_before=tuple(extent["bases-before"]),
        settings=tuple((path, _whole_content(c)) for path, c in extent["settings"]),
        pack=_pack_change(*extent["pack"]),
        standing=_texts(extent["standing"]),
        baseline=tuple((p, row and tuple(row)) for p, row in extent["baseline"]),
        identity=extent["identity"],
        swept_to=extent["swept-to"],
        others_folders=tuple(extent["others-folders"]),
        swept=tuple(extent["swept"]),
        kept_gone=tuple(extent["kept-gone"]),
        unsure=tuple(extent["unsure"]),
        modes=tuple((path, before, after) for path, before, after in extent["modes"]),
        guarded=_guarded(extent["guarded"]),
        stood=tuple((path, _content(c)) for path, c in extent["stood"]),
        spent=tuple((file, digest) for file, digest in extent.get("spent", ())),
        is_found=extent.get("is-found", False),
    )


def _kept(
    path: str, digest: str, size: int, aside_for: str, owner: list[str] | str, base: Any, mode: Any
) -> Kept:
    return Kept(
        path=PlacePath(path),
        digest=Digest(digest),
        size=size,
        aside_for=aside_for,
        owner=_owner(owner),
        base=base,
        mode=mode,
    )


def _owner(value: list[str] | str) -> Owner | None:
    """Return an owner; before format 5, it was one text."""
    return owner_of_text(value) if isinstance(value, str) else owner_or_nobody(value)


def _guarded(value: list[list[Any]] | None) -> tuple[tuple[PlacePath, int], ...] | None:
    return None if value is None else tuple((path, mode) for path, mode in value)


def _pack_change(becoming: Any, writes: list[str], others: Any) -> PackChange:
    other_files = tuple((name, text) for name, text in others)
    return PackChange(becoming=_texts(becoming), writes=tuple(writes), others=other_files)


def _texts(value: list[list[str]] | None) -> PackTexts | None:
    return None if value is None else tuple((name, text) for name, text in value)


def _step(value: list[Any]) -> Step:
    path, before, after, staged = value
    return Step(path=path, before=_content(before), after=_content(after), staged=staged)


def _content(value: list[Any] | None) -> Content | None:
    return None if value is None else _whole_content(value)


def _whole_content(value: list[Any]) -> Content:
    digest, size, mode, mtime_ns = value
    return Content(digest=digest, size=size, mode=mode, mtime_ns=mtime_ns)
