"""``rellum take``."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING, Annotated, Any, cast

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.gather.take import TakeOutcome
    from rellum.core.shelf.intake import By


_UNKNOWN = "no card matches; kept"


def take(
    archives: Annotated[
        list[str] | None,
        typer.Argument(metavar="[FILE...]", help="Archives, parts of them, folders, loose files."),
    ] = None,
    stated: Annotated[
        str, typer.Option("--as", metavar="MOD@VERSION", help="Say which release it is.")
    ] = "",
    by: Annotated[
        str,
        typer.Option("--by", metavar="copy|link|move", help="How to put it on the shelf."),
    ] = "copy",
    each: Annotated[
        bool, typer.Option("--each", help="Take each file in a folder as an archive of its own.")
    ] = False,
    watch: Annotated[
        str,
        typer.Option(
            "--watch",
            metavar="FOLDER",
            help="Watch this folder for missing archives; stop when all are taken.",
        ),
    ] = "",
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Check archives, recognise their releases, copy them to the shelf.

    Each archive is read in full. One that is damaged or hostile is refused; the others are taken. A
    folder is taken as one archive. Parts of an archive may come in any order.
    """
    from rellum.core.actions.gather.take import HowToTake
    from rellum.core.actions.gather.take import take as action

    if by not in ("copy", "link", "move"):
        raise console.BadCall(f"--by {by}: it is copy, link or move")
    if not archives and not watch:
        raise console.BadCall("there is nothing to take", hint="Name files, or --watch FOLDER.")
    how = HowToTake(stated=stated, by=cast("By", by), each=each)
    results: list[TakeOutcome] = []
    if archives:
        with console.progress() as listen:
            results += action(request_of(pack, listen=listen, shelf=True), archives, how)
        if not as_json:
            _show(results)
    if watch:
        results += _watch(watch, pack, how, as_json=as_json)
    if as_json:
        console.say_json({"archives": [_document(each_one) for each_one in results]})
    _tell_refused(results)


def _watch(folder: str, pack: str, how: Any, *, as_json: bool) -> list[TakeOutcome]:
    from rellum.core.actions.gather.take_watch import watch

    results: list[TakeOutcome] = []
    with console.progress() as listen:
        for step in watch(request_of(pack, listen=listen, shelf=True), folder, how):
            if step.waiting and not as_json:
                console.note(f"waiting in {folder} for {', '.join(step.waiting)}")
            if not as_json:
                _show(list(step.taken))
            results += step.taken
    if not as_json and step.to_fetch:
        rest = console.count_text(step.to_fetch, "file")
        console.say(f"All files to get by hand are here; 'rellum fetch' gets the other {rest}.")
    elif not as_json:
        console.say("The shelf has everything that the line-up needs.")
    return results


def _tell_refused(results: list[TakeOutcome]) -> None:
    refused = [each for each in results if each.outcome == "refused"]
    by_error: dict[tuple[str, tuple[str, ...], str], list[str]] = {}
    for each in refused:
        by_error.setdefault((each.reason, each.details, each.hint), []).append(each.path)
    for (reason, details, hint), paths in by_error.items():  # the parts of an archive share one
        of_these = (f"of {', '.join(paths)}",) if len(paths) > 1 else ()
        console.show_error(reason, (*details, *of_these), hint)
    if refused:
        raise typer.Exit(2 if len(refused) == len(results) else 1)


def _show(results: list[TakeOutcome]) -> None:
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
    if taken.likely:
        path, label = shlex.quote(taken.path), shlex.quote(taken.likely[0].label)
        console.say(f"  if so: rellum take {path} --as {label}")


def _document(taken: TakeOutcome) -> dict[str, Any]:
    release = taken.known.release if taken.known else None
    return {
        "path": taken.path,
        "outcome": taken.outcome,
        "mod": release.mod if release else None,
        "version": release.version.text if release else None,
        "build": (release.build or None) if release else None,
        "known_by": taken.known.by if taken.known else None,
        "form": taken.form,
        "size": taken.size,
        "blake3": taken.digest,
        "encoding": taken.encoding or None,
        "copies": taken.copies,
        "likely": [
            {"release": each.label, "points": each.points, "traits": list(each.traits)}
            for each in taken.likely
        ],
        "reason": taken.reason or None,
        "details": list(taken.details),
    }
