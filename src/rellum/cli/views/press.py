"""What ``rellum press`` shows."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.share import PressedDocument, WorkingCopyDocument
    from rellum.core.actions.share.from_installed import WorkingCopy
    from rellum.core.actions.share.press import Pressed

_FEW = 6


def show(found: Pressed, *, every: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(document(found))
        return
    pairs = [
        ("pressed", f"{found.mod} {found.version}"),
        ("archive", f"{found.file}, {console.bytes_text(found.size)}"),
        ("sha256", found.sha256),
        ("content", _content_words(found)),
        ("left out", _names(found.left_out, every=every)),
        ("changes", _change_words(found)),
        ("lays", _laid_words(found)),
        ("version", f"was {found.raised_from} in its own description" if found.raised_from else ""),
        ("identity", "new: the game takes it for another mod" if found.is_fresh else ""),
        ("licence", found.licence or "none: others may not pass it on; state one with --licence"),
        ("card", _card_words(found)),
    ]
    if patch := found.patch:
        pairs.append(("patch", f"{patch.file}, {console.bytes_text(patch.size)}"))
        pairs.append(("", _patch_words(found)))
    console.facts([pair for pair in pairs if pair[1]])
    if found.card.marks:
        console.say()
        lines = console.count_text(found.card.marks, "line")
        console.say(f"{lines} of the card must still be decided: look for 'FILL IN' in it.")


def _content_words(found: Pressed) -> str:
    words = console.count_text(found.member_count, "file")
    return f"{words}, from {found.wrapper}/ in it" if found.wrapper else words


def _names(names: tuple[str, ...], *, every: bool) -> str:
    shown = names if every else names[:_FEW]
    more = f" and {len(names) - len(shown):,} more (--full)" if len(names) > len(shown) else ""
    return ", ".join(shown) + more


def _change_words(found: Pressed) -> str:
    if found.changes is None:
        return ""
    kinds = (
        ("new", found.changes.new),
        ("changed", found.changes.changed),
        ("gone", found.changes.gone),
    )
    words = ", ".join(f"{len(names):,} {kind}" for kind, names in kinds if names)
    return f"since {found.changes.since}: {words or 'none'}"


def _laid_words(found: Pressed) -> str:
    if not found.lays:
        return ""
    words = console.count_text(len(found.lays), "path")
    if found.replaces:
        return f"{words}, {console.count_text(len(found.replaces), 'vanilla file')} among them"
    return f"{words}, no vanilla file among them"


def _card_words(found: Pressed) -> str:
    if found.card.is_new:
        return f"{found.card.file} (new)"
    return f"{found.card.file} ({'had it already' if found.card.was_there else 'release added'})"


def _patch_words(found: Pressed) -> str:
    patch = found.patch
    assert patch is not None
    parts = (
        (patch.removed_count, "removed"),
        (patch.whole_count, "whole"),
        (patch.delta_count, "as differences"),
    )
    counts = ", ".join(f"{count:,} {what}" for count, what in parts if count)
    return f"over {patch.over}: {counts}; applied to it, it gives {found.version}"


def show_copy(found: WorkingCopy, *, as_json: bool) -> None:
    if as_json:
        console.say_json(copy_document(found))
        return
    files = console.count_text(found.file_count, "file")
    console.say(f"Copied {found.release} into {found.folder}: {files}.")
    if found.edited_count:
        edited = console.count_text(found.edited_count, "file")
        console.say(f"{edited} as they stand in the game, the others as in the archive.")
    elif not found.from_archive:
        console.say("Its archive is not on the shelf, or not alone: these are the installed files.")
    console.say(f"Edit it, then: rellum press {shlex.quote(found.folder)} --version VERSION")


def copy_document(found: WorkingCopy) -> WorkingCopyDocument:
    """Return a working copy, for programs."""
    from rellum.cli.documents.shared import release_document

    return {
        "release": release_document(found.release),
        "folder": found.folder,
        "file_count": found.file_count,
        "from_archive": found.from_archive,
        "edited_count": found.edited_count,
    }


def document(found: Pressed) -> PressedDocument:
    """Return what was pressed, for programs."""
    changes, patch = found.changes, found.patch
    return {
        "release": {"mod": found.mod, "version": found.version, "build": None},
        "file": found.file,
        "bytes": found.size,
        "sha256": found.sha256,
        "member_count": found.member_count,
        "left_out": list(found.left_out),
        "wrapper": found.wrapper or None,
        "raised_from": found.raised_from or None,
        "is_fresh": found.is_fresh,
        "licence": found.licence or None,
        "card": found.card.file,
        "is_new_card": found.card.is_new,
        "open_line_count": found.card.marks,
        "changes": changes
        and {
            "since": changes.since,
            "new": list(changes.new),
            "changed": list(changes.changed),
            "gone": list(changes.gone),
        },
        "lays": list(found.lays),
        "replaces": list(found.replaces),
        "patch": patch
        and {
            "file": patch.file,
            "bytes": patch.size,
            "over": patch.over,
            "removed_count": patch.removed_count,
            "whole_count": patch.whole_count,
            "delta_count": patch.delta_count,
        },
    }
