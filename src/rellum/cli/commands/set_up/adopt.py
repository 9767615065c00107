"""``rellum adopt``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of

if TYPE_CHECKING:
    from rellum.core.actions.set_up.adopt import AdoptResult


def adopt(
    game: Annotated[str, typer.Argument(metavar="GAME", help="The installed game's folder.")],
    pack: options.Pack = options.HERE,
    copy_to: Annotated[
        str,
        typer.Option("--copy", metavar="TO", help="Copy the game to TO, and adopt the copy."),
    ] = "",
    rebuild: Annotated[
        bool,
        typer.Option("--rebuild", help="Rebuild a damaged state of this pack; see docs/guide.md."),
    ] = False,
    version: Annotated[
        str,
        typer.Option(
            "--version", metavar="V", help="The game's version, if Rellum cannot detect it."
        ),
    ] = "",
    as_it_is: Annotated[
        bool,
        typer.Option("--as-it-is", help="Treat everything in the folder as vanilla."),
    ] = False,
    anew: Annotated[
        bool, typer.Option("--anew", help="Adopt again the game that this pack keeps.")
    ] = False,
    catalog: options.Catalog = None,
    sheet: options.Sheet = "",
    every: options.All = False,
    as_json: options.Json = False,
) -> None:
    """Start a pack on a game folder: detect its version, list and hash its files.

    Writes rellum.toml in the pack's folder. The game itself only gets a small marker file. Where the catalog
    knows the files of the game's version, these are vanilla; what else the folder holds is shown, with what
    you can do about it. With --copy the game is left untouched: a copy is made, which shares the disk's
    blocks where that can be done.
    """
    from rellum.cli import render
    from rellum.cli.commands.mend.check import drift_document
    from rellum.core.actions.set_up import adopt as action
    from rellum.core.values.paths import shown

    if rebuild:
        if copy_to or catalog or sheet or version or as_it_is or anew:
            raise typer.BadParameter("--rebuild takes all else from rellum.toml")
        _rebuild(pack, game, as_json=as_json)
        return
    if anew and copy_to:
        raise typer.BadParameter("--anew looks at the game that is kept: leave --copy out")
    with console.progress() as listen:
        result = action.adopt(
            request_of(pack, listen=listen, shelf=True),
            game,
            catalogs=tuple(catalog or ()),
            sheet_id=sheet,
            copy_to=copy_to,
            version=version,
            as_it_is=as_it_is,
            anew=anew,
        )
    identity = result.identity
    if as_json:
        console.say_json(
            {
                "sheet": identity.sheet,
                "version": identity.version.text,
                "edition": identity.edition,
                "expansions": list(identity.expansions),
                "evidence": list(identity.evidence),
                "game_folder": result.game_folder,
                "pack_folder": result.pack_folder,
                "files": result.files,
                "bytes": result.bytes,
                "warnings": list(result.warnings),
                "places": dict(result.places),
                "known_baseline": str(result.known) if result.known else None,
                "findings": drift_document(result.drift)["findings"] if result.drift else [],
                "looks_like": [
                    {"what": each.what, "paths": list(map(shown, each.paths))}
                    for each in result.likenesses
                ],
            }
        )
        return
    console.say(console.styled(render.game_line(identity), "bold"))
    files = console.count_text(result.files, "file")
    console.facts(
        [
            ("game", result.game_folder),
            ("pack", result.pack_folder),
            ("baseline", f"{files}, {console.bytes_text(result.bytes)}, {_baseline_words(result)}"),
            *(("because", line) for line in identity.evidence),
            *(("outside", f"{root} is {folder}") for root, folder in result.places),
        ]
    )
    for warning in result.warnings:
        console.warn(warning)
    if result.drift and result.drift.findings:
        _show_what_else(result, every=every)
        return
    if not result.known and result.likenesses:
        _show_signs(result)
    console.say("Next: 'rellum want MOD', and 'rellum take ARCHIVE' for what you have downloaded.")


def _baseline_words(result: AdoptResult) -> str:
    if result.known:
        return f"as known of {result.known}"
    return "listed and hashed; everything in it counts as vanilla"


def _show_what_else(result: AdoptResult, *, every: bool) -> None:
    """Show what in the folder is not vanilla, and what the curator can do about it."""
    from rellum.cli.commands.mend.check import show_findings

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


def _show_signs(result: AdoptResult) -> None:
    """Show what looks foreign in a game of which nobody knows the vanilla files."""
    from rellum.cli import render

    identity = result.identity
    console.say()
    console.say(
        f"The vanilla files of {identity.version} are not known, so all files count as vanilla. But:"
    )
    for each in result.likenesses:
        files = console.count_text(len(each.paths), "file")
        render.tell_paths(each.paths, f"{files} {each.what}:", most=5)
    console.say(
        "If mods are among them, 'rellum restore --all' will bring these back, too. Better: let"
    )
    console.say("'rellum identify CLEAN-COPY --write' list a clean copy of this version, and then")
    console.say(
        f"'rellum adopt {_pasted(result)} --anew'; or clean the folder first and adopt anew."
    )
    console.say()


def _rebuild(pack: str, game: str, *, as_json: bool) -> None:
    from rellum.core.actions.set_up.rebuild import rebuild
    from rellum.core.values.paths import shown, shown_file

    result = rebuild(request_of(pack, shelf=True), game)
    if as_json:
        console.say_json(
            {
                "laid": result.laid,
                "unsure": [shown(path) for path in result.unsure],
                "damaged_state": result.damaged,
                "rescued": result.rescued,
                "rescued_files": result.rescued_files,
            }
        )
        return
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
