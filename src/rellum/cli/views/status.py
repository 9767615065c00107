"""What ``rellum status`` shows. What people read is made of the document, which may be a remembered one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.change import ReleaseStatusDocument, StatusDocument
    from rellum.cli.documents.shared import GameDocument, ReleaseDocument
    from rellum.core.actions.change.status import Status

_FEW = 6
_LINE_UPS = {
    "none": "",
    "outdated": "but rellum.toml has changed since",
    "for another game": "but for another game version than the folder has",
    "current": "up to date with rellum.toml",
}


def show(found: StatusDocument, *, every: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(found)
        return
    others = f"; also {', '.join(found['other_variants'])}" if found["other_variants"] else ""
    chosen = [each for each in found["mods"] if each["chosen"]]
    waiting = [each for each in found["mods"] if each["laid"] != each["chosen"]]
    wants = console.count_text(found["want_count"], "want")
    pairs = [
        ("pack", f"{found['pack']}, variant {found['variant']}{others}"),
        *_feed_lines(found),
        ("game", _game_line(found["game_name"], found["game"])),
        ("folder", f"{found['game_folder']}: {_folder_words(found)}"),
        ("line-up", _line_up_words(wants, chosen, found["line_up"])),
        *(("not for it", f"{each['release']} {each['says']}") for each in found["unfit"][:_FEW]),
        ("in the game", _laid_words(found["mods"], waiting)),
    ]
    pairs += [
        (f"hold {each['mod']}", f"{each['version']}: {each['reason']}") for each in found["holds"]
    ]
    if found["left_out"]:
        pairs.append(("left out", f"{', '.join(found['left_out'])} (optional)"))
    if found["missing"]:
        pairs.append(("missing", _missing_words(found)))
    pairs += [
        ("by hand", f"{each['release']['mod']} {_version(each['release'])}: {each['text']}")
        for each in found["check_by_hand"]
    ]
    pairs.append(("last good", _good_words(found)))
    if backup := found["backup"]:
        pairs.append(("backup", f"{backup['number']}, {console.moment_text(backup['made_at'])}"))
    pairs.append(("space", f"{console.bytes_text(found['free_bytes'])} free on the game's disk"))
    console.facts(pairs)
    if waiting:
        console.say()
        _show_waiting(waiting, every=every)
    console.say()
    if step := found["next"]:
        console.say(f"Next: {console.styled(step['command'], 'bold')}  ({step['why']})")
    else:
        looks = (
            "'rellum follow' looks for a newer version of the pack."
            if found["feed"]
            else "'rellum news' looks for newer releases."
        )
        console.say(f"Nothing to do. {looks}")


def _feed_lines(found: StatusDocument) -> list[tuple[str, str]]:
    feed = found["feed"]
    return [("follows", f"{feed['address']}, version {feed['version']}")] if feed else []


def _game_line(name: str, game: GameDocument) -> str:
    parts = [f"{name} {game['version']}"]
    if game["edition"]:
        parts.append(f"{game['edition']} edition")
    if game["expansions"]:
        parts.append("with " + ", ".join(game["expansions"]))
    return ", ".join(parts)


def _line_up_words(wants: str, chosen: list[ReleaseStatusDocument], state: str) -> str:
    if state == "none":
        return f"none yet; {wants}"
    grafts = sum(bool(each["chosen"] and each["chosen"]["version"] == "graft") for each in chosen)
    words = console.count_text(len(chosen) - grafts, "release")
    words += f" and {console.count_text(grafts, 'graft')}" if grafts else ""
    return f"{words} for {wants}, {_LINE_UPS[state]}"


def _folder_words(found: StatusDocument) -> str:
    if found["game_updated"]:
        return "the game was updated"
    counts = found["drift_by_kind"].items()
    words = ", ".join(f"{count:,} {kind}" for kind, count in counts if count) or "as Rellum left it"
    lost = found["missing_original_count"]
    return (
        f"{words}; {console.count_text(lost, 'kept copy', 'kept copies')} missing"
        if lost
        else words
    )


def _laid_words(mods: list[ReleaseStatusDocument], waiting: list[ReleaseStatusDocument]) -> str:
    if not mods:
        return "no mods"
    laid = [each for each in mods if each["laid"]]
    newest = max((each["since"] or "" for each in laid), default="")
    words = console.count_text(len(laid), "mod")
    if newest:
        words += f", the newest since {console.moment_text(newest)}"
    if waiting:
        return f"{words}; {console.count_text(len(waiting), 'mod')} to change"
    return f"{words}, as the line-up says"


def _missing_words(found: StatusDocument) -> str:
    size = sum(each["bytes"] or 0 for each in found["missing"])
    archives = console.count_text(len(found["missing"]), "archive")
    return f"{archives} not on the shelf, {console.bytes_text(size)}"


def _good_words(found: StatusDocument) -> str:
    words = "no checkpoint is marked good yet"
    if good := found["good_checkpoint"]:
        name = f" '{good['name']}'" if good["name"] else ""
        words = f"checkpoint {good['number']}{name}, {console.moment_text(good['made_at'])}"
    if play := found["last_play"]:
        said = play["outcome"] or play["word"] or "nobody said how it went"
        words += f"; last played {console.moment_text(play['at'])}: {said}"
    return words


def _show_waiting(waiting: list[ReleaseStatusDocument], *, every: bool) -> None:
    shown = waiting if every else waiting[:_FEW]
    rows = [
        (_change_of(each), each["mod"], _version(each["laid"]), _version(each["chosen"]))
        for each in shown
    ]
    console.table(("change", "mod", "in the game", "in the line-up"), rows)
    if len(waiting) > len(shown):
        more = console.count_text(len(waiting) - len(shown), "more mod")
        console.say(f"… and {more} (--full lists them)")


def _change_of(each: ReleaseStatusDocument) -> str:
    return "new" if each["laid"] is None else "goes" if each["chosen"] is None else "changed"


def _version(release: ReleaseDocument | None) -> str:
    if release is None:
        return "-"
    build = release["build"]
    return f"{release['version']} ({build})" if build else release["version"]


def document(found: Status) -> StatusDocument:
    """Return the status for programs; what is free on the disk is filled in when it is shown."""
    from rellum.cli.documents.shared import game_document, release_document

    step, good, backup, play = found.next_step, found.good, found.backup, found.play
    kinds = [each.kind for each in found.drift.findings]
    return {
        "pack": found.pack,
        "pack_folder": found.pack_folder,
        "feed": found.feed and {"address": found.feed.address, "version": found.feed.version},
        "variant": found.variant,
        "other_variants": list(found.other_variants),
        "game": game_document(found.game),
        "game_name": found.game.name,
        "game_folder": found.game_folder,
        "game_updated": found.drift.update is not None,
        "drift_count": len(found.drift.findings),
        "drift_by_kind": {
            "changed": kinds.count("changed"),
            "missing": kinds.count("missing"),
            "foreign": kinds.count("foreign"),
        },
        "missing_original_count": len(found.drift.missing_originals),
        "line_up": found.line_up,
        "want_count": found.want_count,
        "mods": [
            {
                "mod": each.mod,
                "laid": release_document(each.laid) if each.laid else None,
                "chosen": release_document(each.chosen) if each.chosen else None,
                "since": each.since or None,
                "needed_by": list(each.because),
            }
            for each in found.releases
        ],
        "missing": [
            {"release": release_document(each.release), "file": each.file, "bytes": each.size}
            for each in found.missing
        ],
        "holds": [
            {"mod": each.mod, "version": each.version_text, "reason": each.reason}
            for each in found.holds
        ],
        "left_out": list(found.left_out),
        "check_by_hand": [
            {"release": release_document(name), "text": note} for name, note in found.notes
        ],
        "good_checkpoint": good
        and {"number": good.number, "name": good.name or None, "made_at": good.made_at},
        "backup": backup and {"number": backup.number, "made_at": backup.made_at},
        "last_play": play
        and {"at": play.at, "outcome": play.outcome or None, "word": play.word or None},
        "unfit": [{"release": release, "says": said} for release, said in found.unfit],
        "is_hunting": found.is_hunting,
        "free_bytes": 0,
        "next": {"command": step.command, "why": step.why} if step else None,
    }
