"""What ``rellum fetch`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.gather import FetchDocument, NeededDocument
    from rellum.core.actions.gather.fetch import FetchResult
    from rellum.core.composing.needed import NeededFile


def show(result: FetchResult) -> None:
    if not (result.fetched or result.failed or result.by_hand):
        count = console.count_text(result.here, "file")
        console.say(f"Nothing to fetch: the line-up's {count} are on the shelf.")
        return
    rows = [
        (
            "fetched",
            each.taken.known.release.name if each.taken.known else "?",
            console.bytes_text(each.taken.size),
            each.taken.path,
        )
        for each in result.fetched
    ]
    rows += [
        ("failed", each.needed.release.name, _size(each.needed), each.needed.file.name)
        for each in result.failed
    ]
    if rows:
        console.table(("outcome", "release", "size", "file"), rows, right=(2,))
    troubles = [each for each in result.fetched if each.given_up or each.taken.outcome == "part"]
    if troubles:
        console.say()
    for each in troubles:
        if each.taken.outcome == "part":
            console.say(f"{each.taken.path}: {each.taken.reason}")
        for reason in each.given_up:
            address, _, why = reason.partition(": ")
            console.say(f"given up  {address}\n          {why}")
    for failed in result.failed:
        console.show_error(
            f"{failed.needed.file.name} could not be fetched",
            failed.reasons,
            "",
        )
    if result.failed:
        console.say(
            "Run 'rellum fetch' to try again, or 'rellum fetch --export FILE' to export a list for other "
            "programs."
        )
    if result.by_hand:
        if rows:
            console.say()
        _show_by_hand(result.by_hand)


def _show_by_hand(files: tuple[NeededFile, ...]) -> None:
    count = console.count_text(len(files), "file")
    console.say(f"{count} to download by hand:")
    for each in files:
        file = each.file
        console.say(f"  {console.styled(file.name, 'bold')}  {_size(each)}  {each.release.name}")
        if file.page or file.urls:
            console.say(f"    page  {file.page or file.urls[0]}")
        words = file.by_hand or (
            ""
            if file.sha256 or file.blake3
            else "The card has no hash for it: say which release it is with --as."
        )
        if words:
            console.say(f"    how   {words}")
    console.say("Then: rellum take FILE...  or watch a folder for them: rellum take --watch FOLDER")


def _size(needed: NeededFile) -> str:
    return "?" if needed.file.size is None else console.bytes_text(needed.file.size)


def document(result: FetchResult) -> FetchDocument:
    return {
        "here_before_count": result.here,
        "fetched": [
            {
                "file": each.taken.path,
                "outcome": each.taken.outcome,
                "bytes": each.taken.size,
                "blake3": each.taken.digest,
                "given_up": list(each.given_up),
            }
            for each in result.fetched
        ],
        "failed": [
            {**needed_document(each.needed), "reasons": list(each.reasons)}
            for each in result.failed
        ],
        "by_hand": [needed_document(each) for each in result.by_hand],
    }


def needed_document(needed: NeededFile) -> NeededDocument:
    file = needed.file
    return {
        "file": file.name,
        "release": {
            "mod": needed.release.mod,
            "version": needed.release.version.text,
            "build": needed.release.build or None,
        },
        "bytes": file.size,
        "sha256": file.sha256,
        "addresses": list(file.urls),
        "page": file.page or None,
        "by_hand": file.by_hand or None,
    }
