"""``rellum completion``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options


def completion(
    shell: Annotated[
        str, typer.Argument(metavar="bash|zsh|fish|powershell", help="The shell to complete in.")
    ],
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[WORD]...", help="Used by the script: the words so far."),
    ] = None,
    as_json: options.Json = False,
) -> None:
    """Print a script with which your shell completes commands, mods, checkpoints.

    For bash: add 'eval "$(rellum completion bash)"' to ~/.bashrc.
    """
    from rellum.cli.completing import SCRIPTS, candidates
    from rellum.core.nearest import nearest

    if shell == "words":
        found = candidates(words or [""])
        if as_json:
            console.say_json({"shell": shell, "text": "\n".join(found)})
        for each in found:
            console.say_page(each)
        return
    if shell not in SCRIPTS:
        raise console.BadCall(
            f"{shell!r} is no shell that Rellum completes in{nearest(shell, SCRIPTS)}",
            hint=f"It is one of {', '.join(SCRIPTS)}.",
        )
    if as_json:
        console.say_json({"shell": shell, "text": SCRIPTS[shell]})
    console.say_page(SCRIPTS[shell])
