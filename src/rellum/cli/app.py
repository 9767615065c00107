"""The application: its commands in groups, as the curator's work goes."""

from __future__ import annotations

from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from rellum.cli.commands import adopt, apply, check, demo, preview, resolve, restore, take, want

_GROUPS = (
    ("Set up", ("demo", "adopt")),
    ("Gather", ("take",)),
    ("Match", ("want", "drop", "resolve")),
    ("Change the game", ("preview", "apply")),
    ("When something breaks", ("check", "restore")),
)


class GroupedHelp(TyperGroup):
    """Shows the commands under the headings above, in the order of the work."""

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the groups of commands."""
        width = max(len(name) for _, names in _GROUPS for name in names)
        for heading, names in _GROUPS:
            with formatter.section(heading):
                rows = [
                    (name.ljust(width), self.commands[name].get_short_help_str(80))
                    for name in names
                ]
                formatter.write_dl(rows)


app = typer.Typer(
    name="rellum",
    cls=GroupedHelp,
    no_args_is_help=True,
    add_completion=False,
    # Plain help: importing the styled kind takes longer than all of the rest.
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
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


app.command()(demo.demo)
app.command()(adopt.adopt)
app.command()(take.take)
app.command()(want.want)
app.command()(want.drop)
app.command()(resolve.resolve)
app.command()(preview.preview)
app.command()(apply.apply)
app.command()(check.check)
app.command()(restore.restore)
