"""What ``rellum status`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.cli.views.plans import game_line

if TYPE_CHECKING:
    from rellum.cli.documents.change import StatusDocument
    from rellum.core.actions.change.status import LineUpState, ReleaseStatus, Status
    from rellum.core.folder.model import Drift
    from rellum.core.values.ids import ReleaseName

_FEW = 6
_LINE_UPS: dict[LineUpState, str] = {
    "none": "",
    "outdated": "but rellum.toml has changed since",
    "for another game": "but for another game version than the folder has",
    "current": "up to date with rellum.toml",
}


def show(found: Status, *, every: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(document(found))
        return
    others = f"; also {', '.join(found.other_variants)}" if found.other_variants else ""
    chosen = [each for each in found.releases if each.chosen]
    laid = [each for each in found.releases if each.laid]
    wants = console.count_text(found.want_count, "want")
    pairs = [
        ("pack", f"{found.pack}, variant {found.variant}{others}"),
        ("game", game_line(found.game)),
        ("folder", f"{found.game_folder}: {_folder_words(found.drift)}"),
        ("line-up", f"{_line_up_words(wants, len(chosen), found.line_up)}"),
        ("in the game", _laid_words(laid, chosen, found.waiting)),
    ]
    pairs += [(f"hold {each.mod}", f"{each.version_text}: {each.reason}") for each in found.holds]
    if found.left_out:
        pairs.append(("left out", f"{', '.join(found.left_out)} (optional)"))
    if found.missing:
        pairs.append(("missing", _missing_words(found)))
    pairs += [("by hand", f"{name}: {note}") for name, note in found.notes]
    pairs.append(("last good", _good_words(found)))
    if found.backup:
        pairs.append(
            ("backup", f"{found.backup.number}, {console.moment_text(found.backup.made_at)}")
        )
    pairs.append(("space", f"{console.bytes_text(found.free_bytes)} free on the game's disk"))
    console.facts(pairs)
    if found.waiting:
        console.say()
        _show_waiting(found.waiting, every=every)
    console.say()
    if step := found.next_step:
        console.say(f"Next: {console.styled(step.command, 'bold')}  ({step.why})")
    else:
        console.say("Nothing to do. 'rellum news' looks for newer releases.")


def _line_up_words(wants: str, releases: int, state: LineUpState) -> str:
    if state == "none":
        return f"none yet; {wants}"
    return f"{console.count_text(releases, 'release')} for {wants}, {_LINE_UPS[state]}"


def _folder_words(drift: Drift) -> str:
    if drift.update:
        return "the game was updated"
    if not drift.findings:
        return "as Rellum left it"
    kinds = ("changed", "missing", "foreign")
    counts = {kind: sum(each.kind == kind for each in drift.findings) for kind in kinds}
    return ", ".join(f"{count:,} {kind}" for kind, count in counts.items() if count)


def _laid_words(
    laid: list[ReleaseStatus], chosen: list[ReleaseStatus], waiting: tuple[ReleaseStatus, ...]
) -> str:
    if not laid and not chosen:
        return "no mods"
    newest = max(laid, key=lambda each: each.since, default=None)
    words = console.count_text(len(laid), "mod")
    if newest and newest.since:
        words += f", the newest since {console.moment_text(newest.since)}"
    if waiting:
        return f"{words}; {console.count_text(len(waiting), 'mod')} to change"
    return f"{words}, as the line-up says"


def _missing_words(found: Status) -> str:
    size = sum(each.size or 0 for each in found.missing)
    archives = console.count_text(len(found.missing), "archive")
    return f"{archives} not on the shelf, {console.bytes_text(size)}"


def _good_words(found: Status) -> str:
    words = "no checkpoint is marked good yet"
    if found.good:
        name = f" '{found.good.name}'" if found.good.name else ""
        words = f"checkpoint {found.good.number}{name}, {console.moment_text(found.good.made_at)}"
    if found.play:
        said = found.play.outcome or found.play.word or "nobody said how it went"
        words += f"; last played {console.moment_text(found.play.at)}: {said}"
    return words


def _show_waiting(waiting: tuple[ReleaseStatus, ...], *, every: bool) -> None:
    shown = waiting if every else waiting[:_FEW]
    rows = [
        (_change_of(each), each.mod, _version(each.laid), _version(each.chosen)) for each in shown
    ]
    console.table(("change", "mod", "in the game", "in the line-up"), rows)
    if len(waiting) > len(shown):
        more = console.count_text(len(waiting) - len(shown), "more mod")
        console.say(f"… and {more} (--full lists them)")


def _change_of(each: ReleaseStatus) -> str:
    return "new" if each.laid is None else "goes" if each.chosen is None else "changed"


def _version(name: ReleaseName | None) -> str:
    if name is None:
        return "-"
    return f"{name.version} ({name.build})" if name.build else name.version


def document(found: Status) -> StatusDocument:
    """Return the status for programs."""
    from rellum.cli.documents.shared import game_document, release_document

    step = found.next_step
    return {
        "pack": found.pack,
        "pack_folder": found.pack_folder,
        "variant": found.variant,
        "other_variants": list(found.other_variants),
        "game": game_document(found.game),
        "game_folder": found.game_folder,
        "game_updated": found.drift.update is not None,
        "drift_count": len(found.drift.findings),
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
        "good_checkpoint": found.good.number if found.good else None,
        "backup": found.backup.number if found.backup else None,
        "last_outcome": (found.play.outcome or None) if found.play else None,
        "is_hunting": found.is_hunting,
        "free_bytes": found.free_bytes,
        "next": {"command": step.command, "why": step.why} if step else None,
    }
