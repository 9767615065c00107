"""What ``rellum adopt`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.set_up import AdoptDocument, RebuiltDocument
    from rellum.core.actions.set_up.adopt import AdoptResult
    from rellum.core.actions.set_up.rebuild import Rebuilt


def baseline_words(result: AdoptResult) -> str:
    if result.known:
        return f"as known of {result.known}"
    return "listed and hashed; all of these count as vanilla"


def show_what_else(result: AdoptResult, *, every: bool) -> None:
    """Show what in the folder is not vanilla, and what the curator can do about it."""
    from rellum.cli.views.check import show_findings

    assert result.drift is not None
    console.say()
    console.say("The folder differs from vanilla. Nothing was changed:")
    console.say()
    show_findings(result.drift.findings, every=every)
    for each in result.likenesses:
        files = console.count_text(len(each.paths), "file looks", "files look")
        console.say(f"{files} like {each.what}")
    kinds = {each.kind for each in result.drift.findings}
    console.say()
    console.say("Choose what to do ('rellum check' shows the list again):")
    ways = [
        ("foreign", "rellum sweep", "moves foreign files out of the game; --back undoes it"),
        ("changed", "rellum restore --damaged --from COPY", "restores vanilla files from a copy"),
        ("", "rellum absorb --as NAME", "turns the changes into a mod, which you can drop"),
        ("", f"rellum adopt {_pasted(result)} --anew --as-it-is", "accepts the folder as vanilla"),
    ]
    fits = [way for way in ways if not way[0] or way[0] in kinds or way[0] == "changed"]
    width = max(len(command) for _, command, _ in fits)
    for _, command, words in fits:
        console.say(f"  {command.ljust(width)}  {words}")


def _pasted(result: AdoptResult) -> str:
    """Return the game's folder as a shell takes it."""
    import shlex

    from rellum.core.values.paths import shown_file

    return shlex.quote(shown_file(result.game_folder))


def show_signs(result: AdoptResult) -> None:
    """Show what looks foreign in a game with unknown vanilla files."""
    from rellum.cli.views import plans

    identity = result.identity
    console.say()
    console.say(
        f"The vanilla files of {identity.version} are not known, so what is there counts as vanilla. But:"
    )
    for each in result.likenesses:
        files = console.count_text(len(each.paths), "file")
        plans.tell_paths(each.paths, f"{files} {each.what}:", most=5)
    console.say(
        "If mods are among them, 'rellum restore --all' will bring these back, too. Better: let"
    )
    console.say("'rellum identify CLEAN-COPY --write' list a clean copy of this version, and then")
    console.say(
        f"'rellum adopt {_pasted(result)} --anew'; or clean the folder first and adopt anew."
    )
    console.say()


def document(result: AdoptResult) -> AdoptDocument:
    """Return what was adopted for programs."""
    from rellum.cli.documents.shared import game_document
    from rellum.cli.views.check import drift_document

    identity = result.identity
    return {
        "game": game_document(identity),
        "evidence": list(identity.evidence),
        "game_folder": result.game_folder,
        "pack_folder": result.pack_folder,
        "file_count": result.files,
        "bytes": result.bytes,
        "warnings": list(result.warnings),
        "places": [{"place": place, "folder": folder} for place, folder in result.places],
        "known_baseline": str(result.known) if result.known else None,
        "findings": drift_document(result.drift)["findings"] if result.drift else [],
        "looks_like": [
            {"what": each.what, "paths": list(each.paths)} for each in result.likenesses
        ],
    }


def show(result: AdoptResult, *, every: bool) -> None:
    """Show what was adopted, and what to do next."""
    from rellum.cli.views import plans

    identity = result.identity
    console.say(console.styled(plans.game_line(identity), "bold"))
    files = console.count_text(result.files, "file")
    yours = console.count_text(result.players, "file")
    console.facts(
        [
            ("game", result.game_folder),
            ("pack", result.pack_folder),
            (
                "baseline",
                f"{files}, {console.bytes_text(result.bytes)}, {baseline_words(result)}",
            ),
            *([("yours", f"{yours}, never vanilla")] if result.players else []),
            *(("because", line) for line in identity.evidence),
            *(("outside", f"{root} is {folder}") for root, folder in result.places),
        ]
    )
    for warning in result.warnings:
        console.warn(warning)
    if result.drift and result.drift.findings:
        show_what_else(result, every=every)
        return
    if not result.known and result.likenesses:
        show_signs(result)
    if result.has_cards:
        words = "'rellum want MOD', and 'rellum take ARCHIVE' for what you have downloaded"
    else:
        words = "'rellum describe FOLDER' drafts cards of the mods that you have downloaded"
    console.say(f"Next: {words}.")


def rebuilt_document(result: Rebuilt) -> RebuiltDocument:
    """Return what became of a damaged state for programs."""
    return {
        "laid_count": result.laid,
        "unsure": list(result.unsure),
        "damaged_state": result.damaged or None,
        "rescued_to": result.rescued or None,
        "rescued_count": result.rescued_files,
    }


def show_rebuilt(result: Rebuilt) -> None:
    """Show what became of a damaged state."""
    from rellum.core.values.paths import shown, shown_file

    files = console.count_text(result.laid, "file")
    console.say(f"Rebuilt the state: {files} of the line-up found in the game.")
    if result.damaged:
        console.say(f"The damaged one is kept as {shown_file(result.damaged)}")
    if result.rescued_files:
        copies = console.count_text(result.rescued_files, "kept file")
        console.say(f"{copies} that nothing is known about: {shown_file(result.rescued)}")
    for path in result.unsure[:20]:
        console.warn(f"{shown(path)}: its original is not known; get it by 'restore --from COPY'")
    console.say("Checkpoints from before are gone. See 'rellum check', then 'rellum apply'.")
