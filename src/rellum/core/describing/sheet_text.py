"""A first game sheet as commented TOML: what is sure is written, what is not is marked or a comment."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

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
    more_places: other folders that mods go into
    files: those of all that is named here that are files, not folders
    inside: a file in each of the folders that are there only with an expansion or in an edition
    expansions, editions, store_files: files or folders below it that are there only with an expansion, only
        in an edition, or by which its store updates it
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
    more_places: tuple[str, ...] = ()
    files: frozenset[str] = frozenset()
    inside: Mapping[str, str] = field(default_factory=dict)
    forms: tuple[OwnForm, ...] = ()
    asked: frozenset[str] = frozenset()
    expansions: tuple[str, ...] = ()
    editions: tuple[str, ...] = ()
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
        patterns = _patterns(answers.written_by_game, answers)
        lines.append(f"own-files = [{patterns}]   # the game writes these itself: no drift")
    if answers.store_files:
        patterns = ", ".join(_quoted(f"@game/{literal(each)}") for each in answers.store_files)
        lines.append(f"store-files = [{patterns}]   # for 'rellum guard'")
    if signs.folds_case:
        lines.append(
            "folds-case = true   # its program is for Windows: Data/ and data/ are one folder"
        )
    if answers.players:
        patterns = _patterns(answers.players, answers)
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
    for each in answers.editions:
        lines += _only_with_lines("edition", each, answers, "it is there only in this edition")
    for each in answers.expansions:
        lines += _only_with_lines("expansion", each, answers, "it is there only with the expansion")
    if "expansions" not in answers.asked:
        for each in signs.alike:
            lines += [
                "",
                f"# {each}/ is like a folder beside it. Is it there only with an expansion? Then:",
            ]
            lines += [f"# {line}" for line in _only_with_lines("expansion", each, answers)[1:]]
    if answers.load_order:
        lines += _load_order_lines(answers)
    for form in answers.forms:
        what = f"{form.file} in {form.samples} of the mods looked at"
        lines += ["", f"# Mods describe themselves: {what}.", *form.lines]
    return "\n".join(lines) + "\n"


def _patterns(paths: Sequence[str], answers: SheetAnswers) -> str:
    ends = ("" if each in answers.files else "/**" for each in paths)
    patterns = (f"@game/{literal(each)}{end}" for each, end in zip(paths, ends, strict=True))
    return ", ".join(map(_quoted, patterns))


def _only_with_lines(table: str, path: str, answers: SheetAnswers, words: str = "") -> list[str]:
    """Return the ``[[expansion]]`` or ``[[edition]]`` that a file or folder tells."""
    stem = path.rpartition("/")[2].lower()
    name = re.sub(r"[^a-z0-9]+", "-", stem.rpartition(".")[0] or stem).strip("-")
    return [
        "",
        f"[[{table}]]",
        _line("id", name or table, ""),
        _line("file", f"@game/{answers.inside.get(path, path)}", words),
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
    places = {
        name: folder
        for name, folder, _ in signs.places
        if name != "mods" and folder not in (answers.mods, *answers.more_places)
    }
    for folder in answers.more_places:
        places[_free_name(folder, {"mods", *places})] = folder
    lines += [f"{name} = {_quoted(f'@game/{folder}')}" for name, folder in places.items()]
    lines += [
        f"{name} = {_quoted(folder)}   # {_outside_words(answers)}"
        for name, folder in answers.outside
    ]
    return lines


def _outside_words(answers: SheetAnswers) -> str:
    return "the game keeps things there" if "outside" in answers.asked else "the folder is there"


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
        found[_free_name(kind, found)] = folder
    return tuple(found.items())


def _free_name(text: str, taken: Collection[str]) -> str:
    """Return a place's name made of a text, with a number where it is taken."""
    name = re.sub(r"[^a-z0-9]+", "-", text.rpartition("/")[2].lower()).strip("-") or "place"
    numbered = (f"{name}-{number}" for number in range(2, 999))
    return name if name not in taken else next(each for each in numbered if each not in taken)
