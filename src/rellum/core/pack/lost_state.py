"""A state that is missing, damaged or of a newer Rellum: what tells of it, and the command that helps."""

from __future__ import annotations

import os

from rellum.core.errors import RellumError, UserError
from rellum.core.pack.home import PackHome


class StateFault(UserError):
    """The pack's state is missing, damaged, or of a newer Rellum."""

    code = "state-fault"


def damaged(home: PackHome, how: str) -> StateFault:
    """Return the error to raise for a state that is damaged."""
    return StateFault(
        f"{home.state_file} is damaged: {how}",
        hint=f"Nothing was changed. '{rebuild_command(game_named(home))}' makes a new one from the line-up, "
        "the shelf and the game folder; the damaged file is kept.",
    )


def rebuild_command(game: str) -> str:
    """Return the command that makes a state anew; ``game`` is empty where the folder is not known."""
    import shlex

    return f"rellum adopt {shlex.quote(game) if game else 'GAME'} --rebuild"


def game_named(home: PackHome) -> str:
    """Return the game folder that rellum.toml names; empty where that cannot be read."""
    from rellum.core.pack.pack_file import read_pack_file

    try:
        return (os.path.isfile(home.pack_file) and read_pack_file(home).game_folder) or ""
    except (RellumError, OSError):
        return ""


def lost_state(home: PackHome, game: str = "") -> StateFault | None:
    """Return the error to raise where a pack without a state had one; None where nothing tells of one.

    ``game`` is the game folder, where rellum.toml need not name it.
    """
    from rellum.core.pack.marker import marked_pack

    game = game or game_named(home)
    kept = [home.vanilla_file, home.journal_file, home.waiting_store]
    if os.path.isdir(home.originals_folder):
        kept += [home.originals_folder] if os.listdir(home.originals_folder) else []
    is_marked = bool(game) and marked_pack(game) == home.folder
    if not is_marked and not any(map(os.path.exists, kept)):
        return None
    return StateFault(
        f"the state of the pack {home.folder} is lost: {home.state_file} is not there",
        hint=f"Nothing was changed. '{rebuild_command(game)}' makes a new one from the second copy of the "
        "baseline, the line-up, the shelf and the game folder.",
    )


def not_adopted(home: PackHome) -> StateFault:
    """Return the error to raise for a pack without a state: its line-up may have come with a copy of it."""
    follows = os.path.isdir(os.path.join(home.folder, "feed", "trust"))
    if os.path.exists(home.lock_file) and not follows:
        return StateFault(
            f"the pack {home.folder} has a line-up, but no state: {home.state_file} is not there",
            hint="Give it a game that has none of its mods: 'rellum adopt GAME-FOLDER'.",
        )
    return StateFault(
        f"the pack {home.folder} has not adopted a game yet",
        hint=f"Start with 'rellum {'follow --game' if follows else 'adopt'} GAME-FOLDER'.",
    )
