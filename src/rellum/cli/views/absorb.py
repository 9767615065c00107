"""What ``rellum absorb`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.mend import AbsorbedDocument
    from rellum.core.actions.mend.own_mod import Absorbing


def show(absorbing: Absorbing, *, every: bool) -> None:
    from rellum.cli.views.plans import MOST_LINES
    from rellum.core.values.paths import shown

    words = {"changed": "changed", "missing": "taken away", "foreign": "new"}
    findings = absorbing.findings if every else absorbing.findings[:MOST_LINES]
    rows = [(words[e.kind], shown(e.path), str(e.owner or "nobody"), e.detail) for e in findings]
    console.table(("what", "file", "whose so far", "how"), rows)
    if len(findings) < len(absorbing.findings):
        more = len(absorbing.findings) - len(findings)
        console.say(f"… and {more:,} more (--full lists every file)")
    if absorbing.lacking:
        from rellum.cli.views.plans import tell_paths

        tell_paths(
            absorbing.lacking,
            "No copy of these vanilla files is kept, so they cannot come back when the mod is dropped\n"
            "(--from COPY: take them from a clean copy of the game first):",
        )
    for each in absorbing.left:
        console.warn(f"{shown(each.path)} was not absorbed: {each.detail}")


def document(planned: Absorbing, *, done: bool) -> AbsorbedDocument:
    """Return what was absorbed, for programs."""
    return {
        "done": done,
        "release": {"mod": planned.mod, "version": str(planned.version), "build": None},
        "file_count": len(planned.findings),
        "lacking": list(planned.lacking),
    }
