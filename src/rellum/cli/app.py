"""The application: its commands in groups, as the curator's work goes.

A command's module is imported when that command runs, so that starting costs the same however many
commands there are. The line that ``rellum --help`` shows for each stands here; a test compares it
with the command's own first line.
"""

from __future__ import annotations

import functools
import importlib
from collections.abc import Callable, Sequence
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from rellum.core.errors import Stopped
from rellum.core.last_word import standing

# heading -> name, module under rellum.cli.commands, the line in the list of commands
GROUPS: dict[str, tuple[tuple[str, str, str], ...]] = {
    "Set up": (
        ("demo", "demo", "Make a small made-up game with mods, and tell its whole story."),
        (
            "adopt",
            "adopt",
            "Start a pack on a game folder: detect its version, list and hash its files.",
        ),
        (
            "identify",
            "identify",
            "Identify the game in a folder, and compare its files with known versions.",
        ),
        (
            "assemble",
            "assemble",
            "Build a complete game from parts, verified against known files.",
        ),
    ),
    "Gather": (
        ("take", "take", "Check archives, recognise their releases, copy them to the shelf."),
        (
            "fetch",
            "fetch",
            "Download the archives that the line-up needs, and verify them.",
        ),
        ("shelf", "shelf", "List the shelf, verify its archives, or free space."),
        (
            "describe",
            "describe",
            "Draft a card for an archive; lines that you must fill in are marked.",
        ),
        (
            "vet",
            "vet",
            "Check a catalog and list every mistake with its file and line.",
        ),
    ),
    "Match": (
        ("want", "want", "Add mods to the pack, each with a version range."),
        ("drop", "want", "Remove a mod from the pack; the next apply takes it out of the game."),
        ("hold", "hold", "Pin a release of a mod, with a reason; --off unpins it."),
        ("resolve", "resolve", "Choose releases that work together and fit the game."),
        ("why", "why", "Explain why a mod, or one of its releases, is in the line-up or not."),
        ("news", "news", "Show newer releases, and what would change if you take one."),
        (
            "outlook",
            "outlook",
            "Show for each game version which mods are ready, and which block it.",
        ),
    ),
    "Change the game": (
        ("status", "status", "Show how pack and game stand, and which command comes next."),
        (
            "list",
            "list",
            "List the mods in the game: version, since when, from where, and who needs them.",
        ),
        (
            "compare",
            "compare",
            "Show what differs between two line-ups: releases, options, settings and files.",
        ),
        ("conflicts", "conflicts", "Show files that several mods bring, and which mod wins."),
        ("preview", "preview", "Show what apply would do, file by file, and change nothing."),
        ("apply", "apply", "Lay the line-up over the game: all of it or nothing."),
        ("variant", "variant", "Keep several set-ups of the game, vanilla among them, and switch."),
    ),
    "When something breaks": (
        ("check", "check", "Check the game folder for drift."),
        (
            "restore",
            "restore",
            "Restore vanilla: single files, those under a mod, or the whole game.",
        ),
        (
            "checkpoint",
            "checkpoint",
            "Make a checkpoint, a state to go back to; --list shows all.",
        ),
        (
            "rewind",
            "rewind",
            "Go back to a checkpoint, with its settings and line-up.",
        ),
        (
            "absorb",
            "absorb",
            "Turn changes that another program made into a mod of your pack.",
        ),
        ("guard", "guard", "Block store updates by making the store's update files read-only."),
        (
            "sweep",
            "sweep",
            "Move foreign and left-over files out of the game; --back undoes it.",
        ),
        ("kept", "kept", "List kept copies, bring them back, or delete them."),
    ),
    "Live with it": (
        (
            "play",
            "play",
            "Start the game, compare its log with the line-up, and record how it went.",
        ),
        ("hunt", "hunt", "Find the mod, or the mods together, that break the pack."),
        (
            "history",
            "history",
            "Show what changed in the game, when, by which command, and how it ran.",
        ),
        ("space", "space", "Show what takes space on disk, and free some at the least cost."),
        (
            "report",
            "report",
            "Write a page about the health of the pack, to keep or to hand on.",
        ),
        (
            "backup",
            "backup",
            "Keep saves, worlds and settings; list, compare and bring back what was kept.",
        ),
        (
            "trial",
            "trial",
            "Record that a line-up, or some releases, work or break on a game version.",
        ),
    ),
}
ROOMS = {
    "Set up": "set_up",
    "Gather": "gather",
    "Match": "match",
    "Change the game": "change",
    "When something breaks": "mend",
    "Live with it": "live",
}
"""The folder of each group's commands, here and in ``rellum.core.actions``."""
_MODULES = {
    name: f"{ROOMS[heading]}.{module}"
    for heading, rows in GROUPS.items()
    for name, module, _ in rows
}
_CONTEXT = {"help_option_names": ["-h", "--help"], "max_content_width": 100}


def _stoppable(command: Callable[..., None]) -> Callable[..., None]:
    """Return a command that says in one line how far it had come when it is stopped."""

    @functools.wraps(command)
    def call(*arguments: Any, **named: Any) -> None:
        try:
            command(*arguments, **named)
        except KeyboardInterrupt:
            raise Stopped(f"stopped: {standing().value}") from None

    return call


def _command(name: str) -> Any:
    """Import a command's module and build the command."""
    module = importlib.import_module(f"rellum.cli.commands.{_MODULES[name]}")
    single = typer.Typer(add_completion=False, rich_markup_mode=None, context_settings=_CONTEXT)
    single.command(name)(_stoppable(getattr(module, name, None) or getattr(module, f"{name}_")))
    return typer.main.get_command(single)


class GroupedCommands(TyperGroup):
    """Shows the commands under their headings, and imports the one that is called."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        # Names without commands: what suggestions for a misspelt name are made from.
        self.commands = dict.fromkeys(_MODULES)  # type: ignore[assignment]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """Import a command's module and build the command; None for an unknown name."""
        return _command(cmd_name) if cmd_name in _MODULES else None

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the groups of commands."""
        width = max(map(len, _MODULES))
        for heading, rows in GROUPS.items():
            with formatter.section(heading):
                formatter.write_dl([(name.ljust(width), line) for name, _, line in rows])


app = typer.Typer(
    name="rellum",
    cls=GroupedCommands,
    no_args_is_help=True,
    add_completion=False,
    # Plain help: importing the styled kind takes longer than all of the rest.
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings=_CONTEXT,
)


def _print_version(wanted: bool) -> None:
    if wanted:
        from rellum import __version__
        from rellum.cli import console

        console.say(f"rellum {__version__}")
        raise typer.Exit


@app.callback()
def rellum(
    _version: Annotated[
        bool,
        typer.Option(
            "--version", callback=_print_version, is_eager=True, help="Show the version and exit."
        ),
    ] = False,
) -> None:
    """Keep a modpack: choose releases that go together, lay them over the game, and bring
    vanilla back whenever something breaks.

    A pack is a folder with a rellum.toml. Commands work on the pack in the current folder.
    """


def run(words: Sequence[str]) -> None:
    """Run the call that these words make. A command that they begin with is built without all the others."""
    if words and words[0] in _MODULES:
        _command(words[0]).main(args=list(words[1:]), prog_name=f"rellum {words[0]}")
    else:
        app()
