"""A first game sheet as commented TOML: what is sure is written, what is not is marked or a comment."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.catalog.open_lines import MARK
from rellum.core.describing.game_signs import GameSigns, VersionSign
from rellum.core.describing.own_form import OwnForm
from rellum.core.globs import literal


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetAnswers:
    """What was decided about a game, by a person or by default; ``asked`` are the questions answered.

    version: the sign that tells the version; None where nothing tells it
    players: folders that are the player's own, below the game folder
    outside: places of the user's folders, by name, as the sheet writes them
    mods: the folder for mods below the game folder, empty: none
    expansions, store_files: files or folders below it that are there only with an expansion, or by which
        its store updates it
    load_order: the file in which the game lists its mods, empty: none
    is_modded: it has mods already
    """

    id: str
    name: str
    version: VersionSign | None
    players: tuple[str, ...]
    written_by_game: tuple[str, ...]
    outside: tuple[tuple[str, str], ...] = ()
    mods: str = ""
    forms: tuple[OwnForm, ...] = ()
    asked: frozenset[str] = frozenset()
    expansions: tuple[str, ...] = ()
    load_order: str = ""
    store_files: tuple[str, ...] = ()
    is_modded: bool = False


def sheet_text(signs: GameSigns, answers: SheetAnswers) -> str:
    """Return the sheet. It loads as it is; marked lines are guesses that nobody has confirmed."""
    lines = [
        f"# A first game sheet for {answers.name}. Each line says what it rests on.",
        "",
        "[game]",
        _line("id", answers.id, ""),
        _line("name", answers.name, "" if "name" in answers.asked else "the folder's name"),
        f"marks = [{', '.join(_quoted(f'@game/{mark}') for mark in signs.marks)}]"
        "   # a folder with all of these is this game",
    ]
    if answers.written_by_game:
        patterns = ", ".join(
            _quoted(f"@game/{literal(each)}/**") for each in answers.written_by_game
        )
        lines.append(f"own-files = [{patterns}]   # the game writes these itself: no drift")
    if answers.store_files:
        patterns = ", ".join(_quoted(f"@game/{literal(each)}") for each in answers.store_files)
        lines.append(f"store-files = [{patterns}]   # for 'rellum guard'")
    if signs.folds_case:
        lines.append(
            "folds-case = true   # its program is for Windows: Data/ and data/ are one folder"
        )
    if answers.players:
        patterns = ", ".join(_quoted(f"@game/{literal(each)}/**") for each in answers.players)
        lines.append(f"carry = [{patterns}]{_mark('players', answers, 'yours, not vanilla')}")
    elif "players" not in answers.asked:
        lines.append(
            f"# {MARK}: where does the game keep saves and settings? If in the game folder, write: "
            'carry = ["@game/saves/**"]'
        )
    lines += ["", *_place_lines(signs, answers), "", *_version_lines(signs, answers)]
    for pattern in signs.containers:
        lines += [
            "",
            "[[container]]   # zips, by their content",
            f"file = {_quoted(f'@game/{pattern}')}",
        ]
    lines += [line for each in answers.expansions for line in _expansion_lines(each)]
    if answers.load_order:
        lines += _load_order_lines(answers)
    for form in answers.forms:
        what = f"{form.file} in {form.samples} of the mods looked at"
        lines += ["", f"# Mods describe themselves: {what}.", *form.lines]
    return "\n".join(lines) + "\n"


def _expansion_lines(path: str) -> list[str]:
    stem = path.rpartition("/")[2].lower()
    name = re.sub(r"[^a-z0-9]+", "-", stem.rpartition(".")[0] or stem).strip("-")
    return [
        "",
        "[[expansion]]",
        _line("id", name or "expansion", ""),
        f"file = {_quoted(f'@game/{path}')}   # it is there only with the expansion",
    ]


def _load_order_lines(answers: SheetAnswers) -> list[str]:
    ending = answers.load_order.rpartition(".")[2].lower()
    form = ending if ending in ("json", "ini") else "lines"
    lines = [
        "",
        "[load-order]",
        f"file = {_quoted(f'@game/{answers.load_order}')}",
        f'form = "{form}"',
        'entries = ["@mods/*"]   # the names of what fits are the entries',
    ]
    if form != "lines":
        lines.append(f'key = ["mods"]   # {MARK}: the keys to the list; in ini the section')
    return lines


def _mark(question: str, answers: SheetAnswers, words: str) -> str:
    return (
        f"   # {words}"
        if question in answers.asked
        else f"   # {MARK}: {words}? A guess by the name"
    )


def _place_lines(signs: GameSigns, answers: SheetAnswers) -> list[str]:
    lines = ["[places]"]
    reasons = {name: reason for name, _, reason in signs.places}
    if answers.mods:
        words = "" if "mods" in answers.asked else f"   # {reasons.get('mods', 'for mods')}"
        lines.append(f"mods = {_quoted(f'@game/{answers.mods}')}{words}")
    else:
        lines.append(f'# {MARK}: where do mods go? Write: mods = "@game/mods"')
    lines += [
        f"{name} = {_quoted(f'@game/{folder}')}"
        for name, folder, _ in signs.places
        if name != "mods" and folder != answers.mods
    ]
    lines += [
        f"{name} = {_quoted(folder)}   # the folder is there" for name, folder in answers.outside
    ]
    return lines


def _version_lines(signs: GameSigns, answers: SheetAnswers) -> list[str]:
    chosen = answers.version
    is_sure = chosen is not None and (chosen.agrees or "version" in answers.asked)
    if chosen is None:
        return [
            "# Nothing tells the version: state it when you adopt the game, with --version.",
        ]
    lines = [
        "[[version]]" if is_sure else f"[[version]]   # {MARK}: is it {chosen.version}?",
        f"# {chosen.reason}",
        f"file = {_quoted(f'@game/{chosen.file}')}",
        f"pattern = '{chosen.pattern}'"
        if "'" not in chosen.pattern
        else f"pattern = {_quoted(chosen.pattern)}",
    ]
    others = [each for each in signs.versions if each is not chosen][:2]
    return lines + [f"# Or {each.version}, by {each.file}: {each.reason}" for each in others]


def _line(key: str, value: str, comment: str) -> str:
    return f"{key} = {_quoted(value)}" + (f"   # {comment}" if comment else "")


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def outside_folders(names: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """Return the places of the user's folders that a game has, as a sheet names them.

    ``names`` are such folders, as ``{documents}/Name``.
    """
    found: dict[str, str] = {}
    for folder in names:
        kind = "settings" if folder.startswith(("{config}", "{documents}")) else "userdata"
        found.setdefault(kind, folder)
    return tuple(found.items())
