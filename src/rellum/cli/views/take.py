"""What ``rellum take`` shows."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.gather import TakenDocument
    from rellum.core.actions.gather.archive_taker import TakeOutcome


_UNKNOWN = "no card matches; kept"


def show(results: list[TakeOutcome]) -> None:
    good = [each for each in results if each.outcome != "refused"]
    rows = [
        (
            each.outcome,
            each.known.release.name if each.known else "?",
            console.bytes_text(each.size),
            each.path,
        )
        for each in good
    ]
    if rows:
        console.table(("outcome", "release", "size", "file"), rows, right=(2,))
    by_remark: dict[str, list[TakeOutcome]] = {}
    for each in good:
        for remark in _remarks(each):
            by_remark.setdefault(remark, []).append(each)
    for remark, of_these in by_remark.items():
        more = f" and {len(of_these) - 1} more" if len(of_these) > 1 else ""
        console.say(f"{of_these[0].path}{more}: {remark}")
        if remark == _UNKNOWN:
            for each in of_these:
                _show_likely(each)
            if not of_these[0].likely:
                console.say(
                    f"  to use it: rellum describe {shlex.quote(of_these[0].path)} --save, then take it again"
                )


def _remarks(taken: TakeOutcome) -> list[str]:
    from rellum.core.archives.links import links_laid

    words = [taken.reason] if taken.reason else []
    if taken.known and taken.known.by in ("md5", "sha1"):
        words.append(f"recognised only by its {taken.known.by.upper()}, which is weak evidence")
    elif taken.known and taken.known.by == "stated":
        words.append("recorded as stated by you, not verified")
    elif taken.known is None and taken.outcome != "part":
        words.append(_UNKNOWN)
    if taken.encoding:
        words.append(f"names decoded as {taken.encoding}")
    if taken.copies:
        words.append(links_laid(taken.copies))
    return words


def _show_likely(taken: TakeOutcome) -> None:
    """Offer what an unknown archive may be, and how sure that is."""
    for likely in taken.likely:
        traits = ", ".join(likely.traits)
        console.say(f"  {likely.certainty} {likely.label}  ({likely.points} of 100: {traits})")
    path = shlex.quote(taken.path)
    stated = next((each.label for each in taken.likely if each.may_be_stated), "")
    if stated:
        console.say(f"  if so: rellum take {path} --as {shlex.quote(stated)}")
    elif taken.likely:
        console.say("  but its card lists another file, by hash: this is another release or build")
        console.say(f"  to add it: rellum describe {path}")


def document(taken: TakeOutcome) -> TakenDocument:
    release = taken.known.release if taken.known else None
    return {
        "path": taken.path,
        "outcome": taken.outcome,
        "release": {
            "mod": release.mod,
            "version": release.version.text,
            "build": release.build or None,
        }
        if release
        else None,
        "known_by": taken.known.by if taken.known else None,
        "form": taken.form,
        "bytes": taken.size,
        "blake3": taken.digest,
        "encoding": taken.encoding or None,
        "copy_count": taken.copies,
        "likely": [
            {"release": each.label, "points": each.points, "traits": list(each.traits)}
            for each in taken.likely
        ],
        "reason": taken.reason or None,
        "details": list(taken.details),
    }
