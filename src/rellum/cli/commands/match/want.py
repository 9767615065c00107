"""``rellum want`` and ``rellum drop``."""

from __future__ import annotations

from typing import Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of


def want(
    mod: Annotated[str, typer.Argument(metavar="MOD", help="The mod's id.")],
    range_text: Annotated[
        str,
        typer.Argument(metavar="[RANGE]", help="Allowed versions, for example '>=3, <4'."),
    ] = "",
    optional: Annotated[
        bool | None,
        typer.Option("--optional/--needed", help="Leave the mod out if no release fits."),
    ] = None,
    choices: Annotated[
        list[str] | None,
        typer.Option(
            "--option", metavar="GROUP=CHOICE", help="Choose one of its options. Repeatable."
        ),
    ] = None,
    pack: options.Pack = options.HERE,
) -> None:
    """Add a mod to the pack, with a version range.

    Writes it into rellum.toml; 'rellum resolve' then chooses the release.
    """
    from rellum.core.actions.match.wants import want as action

    chosen: dict[str, tuple[str, ...]] = {}
    for each in choices or []:
        group, _, names = each.partition("=")
        more = tuple(filter(None, names.split(",")))
        chosen[group] = tuple(dict.fromkeys((*chosen.get(group, ()), *more)))
    result = action(request_of(pack), mod, range_text, optional=optional, options=chosen)
    which = "any version" if result.range == "*" else result.range
    before = ""
    if result.before is not None and result.before != result.range:
        before = f" (was: {'any version' if result.before == '*' else result.before})"
    if_had = ", if a release fits" if result.optional else ""
    console.say(f"The pack wants {result.mod}, {which}{if_had}{before}.")
    newest = ", ".join(version.text for version in result.matching[:5])
    console.say(f"Releases in that range: {newest}{' …' if len(result.matching) > 5 else ''}")


def drop(
    mod: Annotated[str, typer.Argument(metavar="MOD", help="The mod's id.")],
    pack: options.Pack = options.HERE,
) -> None:
    """Remove a mod from the pack; the next apply takes it out of the game."""
    from rellum.core.actions.match.wants import drop as action

    action(request_of(pack), mod)
    console.say(
        f"{mod} is no longer wanted. The next 'rellum apply' removes it unless another mod needs it."
    )
