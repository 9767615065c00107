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

from rellum.cli import console
from rellum.cli.examples import STATUSES, epilog
from rellum.core.errors import Stopped, UserError
from rellum.core.last_word import standing
from rellum.core.nearest import nearest

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
        ("guide", "guide", "Read the guide and the reference, which come with the program."),
        (
            "completion",
            "completion",
            "Print a script with which your shell completes commands, mods, checkpoints.",
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
            "List the mods in the game: version, since when, from where, who needs them.",
        ),
        (
            "compare",
            "compare",
            "Show what differs between two line-ups: releases, options, files.",
        ),
        ("conflicts", "conflicts", "Show files that several mods bring, and which mod wins."),
        (
            "decide",
            "decide",
            "Show and settle what the pack decides: who wins, trust, places, catalogs.",
        ),
        ("graft", "graft", "Put content of an older game, or an archive, into a slot of this one."),
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
    "Share": (
        (
            "press",
            "press",
            "Press a folder that you edit into an archive, with its release in a card.",
        ),
        (
            "publish",
            "publish",
            "Publish the pack as the next version of a feed that players follow.",
        ),
        (
            "follow",
            "follow",
            "Get the pack that a curator published, and keep it up to date.",
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
    "Share": "share",
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
    single.command(name, epilog=epilog(name))(
        _stoppable(getattr(module, name, None) or getattr(module, f"{name}_"))
    )
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
    epilog=STATUSES,
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

    A pack is a folder with a rellum.toml. Commands work on the pack that the current folder
    lies in, or in whose game it lies.
    """


UsageError: Any = typer.BadParameter.__mro__[1]
"""What Typer raises for a call that it cannot read."""

_MEANT = {
    "install": "'rellum want MOD' adds a mod to the pack, and 'rellum apply' puts it into the game",
    "add": "'rellum want MOD' adds a mod to the pack, and 'rellum apply' puts it into the game",
    "get": "'rellum want MOD' adds a mod to the pack, and 'rellum fetch' downloads it",
    "download": "'rellum fetch' downloads what the line-up needs",
    "update": "'rellum news' lists newer releases, and 'rellum apply --newest MOD' takes one",
    "upgrade": "'rellum news' lists newer releases, and 'rellum apply --newest MOD' takes one",
    "remove": "'rellum drop MOD' takes a mod out of the pack, and 'rellum apply' out of the game",
    "uninstall": "'rellum drop MOD' takes a mod out of the pack, and 'rellum apply' out of the game",
    "delete": "'rellum drop MOD' takes a mod out of the pack, and 'rellum apply' out of the game",
    "undo": "'rellum rewind' undoes the last change",
    "search": "'rellum list --catalog WORD' searches the catalog",
    "info": "'rellum why MOD' tells about a mod, and 'rellum status' about the pack",
    "init": "'rellum adopt GAME-FOLDER' starts a pack on a game",
    "new": "'rellum adopt GAME-FOLDER' starts a pack on a game",
    "diff": "'rellum compare' compares line-ups, and 'rellum check' the game with what it should be",
    "verify": "'rellum check' compares the game with what Rellum left, and '--deep' reads every file",
    "repair": "'rellum restore --damaged' mends what 'rellum check' finds",
    "run": "'rellum play' starts the game",
    "start": "'rellum play' starts the game",
    "launch": "'rellum play' starts the game",
    "log": "'rellum history' shows what changed when",
    "save": "'rellum backup' keeps saves and settings, and 'rellum checkpoint' the whole state",
    "profile": "'rellum variant' keeps several set-ups of one game",
    "help": "'rellum --help' lists all commands, and 'rellum COMMAND --help' explains one",
}
"""What words mean that a newcomer tries."""


class NoSuchCommand(UserError):
    """Rellum has no command of that name."""

    code = "no-such-command"


def run(words: Sequence[str]) -> int:
    """Run the call that these words make; return its exit status. Raises RellumError.

    A command that they begin with is built without all the others.
    """
    if not words:
        run(["--help"])
        return 2
    first = words[0]
    if "--json" in words:
        console.want_json(True)
    if not first.startswith("-") and first not in _MODULES:
        raise _no_such_command(first)
    try:
        if first in _MODULES:
            command = _command(first)
            name = f"rellum {first}"
            status = command.main(args=list(words[1:]), prog_name=name, standalone_mode=False)
        else:
            status = app(args=list(words), prog_name="rellum", standalone_mode=False)
    except UsageError as error:
        raise _bad_call(error, first) from error
    except console.BadCall as error:
        if error.hint:
            raise
        raise error.with_hint(f"'rellum {first} --help' explains it.") from error
    return status if isinstance(status, int) else 0


def _no_such_command(word: str) -> NoSuchCommand:
    import difflib

    close = difflib.get_close_matches(word.casefold(), [*_MODULES, *_MEANT], n=1, cutoff=0.75)
    if close and close[0] in _MEANT:
        return NoSuchCommand(f"there is no command {word!r}", hint=f"{_MEANT[close[0]]}.")
    return NoSuchCommand(
        f"there is no command {word!r}{nearest(word, _MODULES)}",
        hint="'rellum --help' lists all commands.",
    )


def _bad_call(error: Any, name: str) -> console.BadCall:
    """Return what is wrong with a call in the form of all other errors."""
    text = error.format_message().rstrip(".")
    if not text:  # no command at all: the help was shown
        return console.BadCall("name a command", hint="'rellum --help' lists all commands.")
    summary = text[0].lower() + text[1:]
    help_of = f"rellum {name} --help" if name in _MODULES else "rellum --help"
    usage = error.ctx.get_usage().removeprefix("Usage: ") if error.ctx else ""
    return console.BadCall(summary, hint=f"{usage}\n'{help_of}' explains it.".lstrip())
