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
    feed = f"version {proof.version} of the feed"
    files = f"{console.count_text(proof.hashed, 'file')} read"
    if proof.is_same:
        console.say(f"The same as {feed}: {files}.")
    elif proof.is_curators:
        console.say(f"The curator's files are all as in {feed}: {files}. Besides these:")
    else:
        console.say(f"Not the same as {feed}.")
        rows = [
            ("line-up", proof.mine.line_up, proof.theirs.line_up),
            ("laid", proof.mine.tree, proof.theirs.tree),
        ]
        console.table(("what", "yours", "the feed's"), rows)
    _tell(proof, every=every)
    if proof.is_curators:
        console.say(f"line-up {proof.mine.line_up}, laid {proof.mine.tree}")
    elif proof.here and proof.here < proof.version:
        console.say(
            f"You have version {proof.here}: 'rellum follow' brings version {proof.version}."
        )
    elif not proof.differing and not proof.own_mods:
        console.say("'rellum follow' brings yours to it.")


def _tell(proof: Proof, *, every: bool) -> None:
    """Name what differs, and what there is besides; with what helps, where something does."""
    from rellum.cli.views.plans import tell_paths

    count = console.count_text
    differing = count(
        len(proof.differing), "file of the curator's mods is", "files of the curator's mods are"
    )
    most = 10_000 if every else 20
    tell_paths(proof.differing, f"{differing} not as laid ('rellum restore --damaged'):", most=most)
    if proof.own_mods:
        names = ", ".join(f"{each.mod} {each.version}" for each in proof.own_mods)
        console.say(f"{count(len(proof.own_mods), 'mod')} of your own: {names}")
    vanilla = count(len(proof.vanilla), "vanilla file is", "vanilla files are")
    tell_paths(proof.vanilla, f"{vanilla} changed or missing ('rellum check'):", most=most)
    foreign = count(len(proof.foreign), "foreign file", "foreign files")
    tell_paths(proof.foreign, f"{foreign}, which may load ('rellum sweep'):", most=most)
    own = count(len(proof.own_settings), "file is", "files are")
    tell_paths(proof.own_settings, f"{own} your own or changed by you:", most=most)


def document(proof: Proof) -> ProofDocument:
    """Return the proof, for programs."""
    from rellum.cli.documents.shared import release_document

    return {
        "is_same": proof.is_same,
        "version": proof.version,
        "line_up_fingerprint": proof.mine.line_up,
        "tree_fingerprint": proof.mine.tree,
        "feed_line_up_fingerprint": proof.theirs.line_up,
        "feed_tree_fingerprint": proof.theirs.tree,
        "is_curators": proof.is_curators,
        "version_here": proof.here or None,
        "differing": list(proof.differing),
        "own_mods": [release_document(each) for each in proof.own_mods],
        "foreign": list(proof.foreign),
        "vanilla_changed": list(proof.vanilla),
        "own_changes": list(proof.own_settings),
        "hashed_count": proof.hashed,
    }
