"""The application: its commands in groups, as the curator's work goes.

A command's module is imported when that command runs, so that starting costs the same however many
commands there are. The line that ``rellum --help`` shows for each stands here; a test compares it
with the command's own first line.
"""

from __future__ import annotations

import functools
import importlib
from collections.abc import Callable
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from rellum.core.errors import Stopped
from rellum.core.last_word import standing

# heading -> name, module under rellum.cli.commands, the line in the list of commands
GROUPS: dict[str, tuple[tuple[str, str, str], ...]] = {
    "Set up": (
        ("demo", "demo", "Make a small made-up game with mods, and tell its whole story."),
        ("adopt", "adopt", "Make a game folder this pack's: know its version, list and hash it."),
        (
            "identify",
            "identify",
            "Tell what game a folder is, and how many of its files are as known.",
        ),
        (
            "assemble",
            "assemble",
            "Build a whole game from parts, checked against known files.",
        ),
    ),
    "Gather": (
        ("take", "take", "Check archives, know their releases, put copies on the shelf."),
        (
            "fetch",
            "fetch",
            "Fetch what the line-up needs and the shelf lacks, check it and put it there.",
        ),
        ("shelf", "shelf", "Show what is on the shelf, hash it again, or free space on it."),
        (
            "describe",
            "describe",
            "Write a first card for an archive, marked where a person must fill in.",
        ),
        (
            "vet",
            "vet",
            "Look through a catalog and tell all that is wrong in it, with file and line.",
        ),
    ),
    "Match": (
        ("want", "want", "Ask for a mod, with a version range."),
        ("drop", "want", "Stop asking for a mod; the next apply takes it out of the game."),
        ("hold", "hold", "Pin a release of a mod, with a reason; --off lets go of it."),
        ("resolve", "resolve", "Choose releases that go together and suit the game."),
        ("why", "why", "Tell why a mod, or one release of it, is in the line-up or not."),
        ("news", "news", "Show newer releases than the line-up's, and what taking each would do."),
        (
            "outlook",
            "outlook",
            "For every game version: which mods are ready, and which hold the pack back.",
        ),
    ),
    "Change the game": (
        ("conflicts", "conflicts", "Show which mods bring the same files, and who wins each."),
        ("preview", "preview", "Show what apply would do, file by file; change nothing."),
        ("apply", "apply", "Lay the line-up over the game: all of it or nothing."),
    ),
    "When something breaks": (
        ("check", "check", "Tell whether the game folder is as Rellum left it."),
        ("restore", "restore", "Bring vanilla originals back: of files, a mod, or the whole game."),
        (
            "checkpoint",
            "checkpoint",
            "Make a state that 'rellum rewind' goes back to; --list shows them.",
        ),
        (
            "rewind",
            "rewind",
            "Go back to a checkpoint, with settings and line-up; or undo a change.",
        ),
        (
            "absorb",
            "absorb",
            "Make what something else changed in the game a mod of the pack's own.",
        ),
        ("guard", "guard", "Make the files read-only through which the game's store updates it."),
        (
            "sweep",
            "sweep",
            "Move foreign and left-over files out of the game; --back brings them back.",
        ),
        ("kept", "kept", "List your files that Rellum keeps, bring one back, or delete it."),
    ),
    "Live with it": (
        (
            "trial",
            "trial",
            "Record that the line-up, or some releases, work or break on a game version.",
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


class GroupedCommands(TyperGroup):
    """Shows the commands under their headings, and imports the one that is called."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        self._modules = {
            name: f"{ROOMS[heading]}.{module}"
            for heading, rows in GROUPS.items()
            for name, module, _ in rows
        }
        # Names without commands: what suggestions for a misspelt name are made from.
        self.commands = dict.fromkeys(self._modules)  # type: ignore[assignment]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """Import a command's module and build the command; None for an unknown name."""
        if cmd_name not in self._modules:
            return None
        module = importlib.import_module(f"rellum.cli.commands.{self._modules[cmd_name]}")
        single = typer.Typer(add_completion=False, rich_markup_mode=None, context_settings=_CONTEXT)
        single.command(cmd_name)(_stoppable(getattr(module, cmd_name)))
        return typer.main.get_command(single)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the groups of commands."""
        width = max(map(len, self._modules))
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
