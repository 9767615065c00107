"""What ``rellum follow`` shows, and how it fetches what the feed does not have."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.cli.documents.share import FollowedDocument
    from rellum.core.actions.change.apply import ApplyResult
    from rellum.core.actions.gather.fetch import FetchResult
    from rellum.core.actions.set_up.adopt import AdoptResult
    from rellum.core.actions.share.follow import Followed
    from rellum.core.change.request import Request


def show(found: Followed) -> None:
    facts = found.facts
    came = (
        f"{console.bytes_text(found.received)} in {console.count_text(found.requests, 'request')}"
    )
    if found.from_swarm:
        came += f", {console.bytes_text(found.from_swarm)} of it by the swarm"
    pairs = [
        ("feed", f"{found.address}"),
        ("pack", f"{facts.get('pack', '')}, version {found.version}{_before(found)}"),
        ("for", facts.get("game", "")),
        ("new", facts.get("words", "")),
        ("came", f"{came}; {console.count_text(found.taken, 'archive')} for the shelf"),
        ("line-up", "the curator's" if found.is_exact else "the curator's, with what you want"),
    ]
    console.facts([pair for pair in pairs if pair[1]])
    if found.adopted:
        _tell_adopted(found.adopted)
    for key in found.conflicts:
        console.warn(f"rellum.toml: you and the curator both changed {key}; yours stays")
    console.say()


def _tell_adopted(adopted: AdoptResult) -> None:
    """Warn of what is not vanilla in the player's game: it is not what the curator has."""
    odd = len(adopted.drift.findings) if adopted.drift else 0
    if odd:
        files = console.count_text(odd, "file of your game is", "files of your game are")
        console.warn(
            f"{files} not vanilla: 'rellum check' lists them, 'rellum sweep' moves foreign "
            "ones out, and 'rellum restore --damaged --from COPY' mends the others"
        )
    for each in adopted.warnings:
        console.warn(each)


def _before(found: Followed) -> str:
    if found.before == found.version:
        return ", which you had"
    return f", you had {found.before}" if found.before else ""


def fetch_missing(pack: str) -> FetchResult | None:
    """Fetch what the feed does not have, from where the cards say."""
    from rellum.cli.views.fetch_progress import FetchView
    from rellum.core.actions.gather.fetch import fetch

    bar = FetchView()
    try:
        return fetch(request_of(pack, shelf=True)._replace(follows=True), bar.show)
    finally:
        bar.clear()


def show_missing(fetched: FetchResult) -> None:
    from rellum.cli.views import fetch as view

    view.show(fetched)
    console.say("Then: rellum follow")


def show_same(request: Request) -> None:
    """Show by what players can compare."""
    from rellum.core.actions.share.sameness import sameness

    found = sameness(request)
    console.say(f"To compare: line-up {found.line_up}, laid {found.tree}")


def document(
    found: Followed, applied: ApplyResult | None, fetched: FetchResult | None
) -> FollowedDocument:
    """Return what came of it, for programs."""
    return {
        "address": found.address,
        "fingerprint": found.fingerprint,
        "version": found.version,
        "version_before": found.before or None,
        "facts": dict(found.facts),
        "is_new_pack": found.adopted is not None,
        "is_exact": found.is_exact,
        "conflicts": list(found.conflicts),
        "received_bytes": found.received,
        "swarm_bytes": found.from_swarm,
        "request_count": found.requests,
        "archive_count": found.taken,
        "failed": [each.needed.file.name for each in fetched.failed] if fetched else [],
        "by_hand": [each.file.name for each in fetched.by_hand] if fetched else [],
        "done": applied is not None and applied.done,
        "changed_count": len(applied.preview.plan.visible) if applied and applied.done else 0,
    }
