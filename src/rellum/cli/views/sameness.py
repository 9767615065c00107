"""What ``rellum check --against`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.share import ProofDocument
    from rellum.core.actions.share.sameness import Proof


def show(proof: Proof, *, every: bool, as_json: bool) -> None:
    if as_json:
        console.say_json(document(proof))
        return
    if proof.is_same:
        files = console.count_text(proof.hashed, "file")
        console.say(f"The same as version {proof.version} of the feed: {files} read.")
        console.say(f"line-up {proof.mine.line_up}, laid {proof.mine.tree}")
        return
    rows = [
        ("line-up", proof.mine.line_up, proof.theirs.line_up),
        ("laid", proof.mine.tree, proof.theirs.tree),
    ]
    console.say(f"Not the same as version {proof.version} of the feed.")
    console.table(("what", "yours", "the feed's"), rows)
    if proof.differing:
        from rellum.cli.views.plans import MOST_LINES
        from rellum.core.values.paths import shown

        console.say("Files of mods that are not as they were laid:")
        paths = proof.differing if every else proof.differing[:MOST_LINES]
        for path in paths:
            console.say(f"  {shown(path)}")
        if len(paths) < len(proof.differing):
            console.say(f"  … and {len(proof.differing) - len(paths):,} more (--full)")
        console.say("'rellum restore --damaged' mends them.")
    else:
        console.say("'rellum follow' brings yours to it.")


def document(proof: Proof) -> ProofDocument:
    """Return the proof, for programs."""
    return {
        "is_same": proof.is_same,
        "version": proof.version,
        "line_up_fingerprint": proof.mine.line_up,
        "tree_fingerprint": proof.mine.tree,
        "feed_line_up_fingerprint": proof.theirs.line_up,
        "feed_tree_fingerprint": proof.theirs.tree,
        "differing": list(proof.differing),
        "hashed_count": proof.hashed,
    }
