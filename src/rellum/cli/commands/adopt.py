"""``rellum adopt``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options


def adopt(
    game: Annotated[str, typer.Argument(metavar="GAME", help="The installed game's folder.")],
    pack: options.Pack = options.HERE,
    copy_to: Annotated[
        str,
        typer.Option("--copy", metavar="TO", help="Keep a copy of the game at TO instead of it."),
    ] = "",
    rebuild: Annotated[
        bool,
        typer.Option(
            "--rebuild", help="Make a damaged state of this pack anew; see docs/guide.md."
        ),
    ] = False,
    catalog: options.Catalog = None,
    sheet: options.Sheet = "",
    as_json: options.Json = False,
) -> None:
    """Make a game folder this pack's: know its version, list and hash it.

    Writes rellum.toml in the pack's folder. The game itself only gets a small marker file. With --copy
    the game is left untouched: a copy is made, which shares the disk's blocks where that can be done.
    """
    from rellum.cli import render
    from rellum.core.actions import adopt as action
    from rellum.core.shelf.store import shelf_folder

    if rebuild:
        if copy_to or catalog or sheet:
            raise typer.BadParameter("--rebuild takes all else from rellum.toml")
        _rebuild(pack, game, as_json=as_json)
        return
    with console.progress() as listen:
        result = action.adopt(
            pack,
            game,
            catalogs=tuple(catalog or ()),
            sheet_id=sheet,
            shelf_folder=shelf_folder(),
            copy_to=copy_to,
            listen=listen,
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
            }
        )
        return
    console.say(console.styled(render.game_line(identity), "bold"))
    files = console.count_text(result.files, "file")
    console.facts(
        [
            ("game", result.game_folder),
            ("pack", result.pack_folder),
            ("baseline", f"{files}, {console.bytes_text(result.bytes)}, listed and hashed"),
            *(("told by", line) for line in identity.evidence),
        ]
    )
    for warning in result.warnings:
        console.warn(warning)
    console.say("Next: 'rellum want MOD', and 'rellum take ARCHIVE' for what you have downloaded.")


def _rebuild(pack: str, game: str, *, as_json: bool) -> None:
    from rellum.cli.recovery import tell_recovered
    from rellum.core.actions.rebuild import rebuild
    from rellum.core.paths import shown, shown_file
    from rellum.core.shelf.store import shelf_folder

    result = rebuild(pack, game, shelf_folder(), tell_recovered)
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
    console.say(f"The state is made anew: {files} of the line-up found in the game.")
    if result.damaged:
        console.say(f"The damaged one is kept as {shown_file(result.damaged)}")
    if result.rescued_files:
        copies = console.count_text(result.rescued_files, "kept file")
        console.say(f"{copies} that nothing is known of any more: {shown_file(result.rescued)}")
    for path in result.unsure[:20]:
        console.warn(f"{shown(path)}: its original is not known; get it by 'restore --from COPY'")
    console.say("Checkpoints from before are gone. See 'rellum check', then 'rellum apply'.")
