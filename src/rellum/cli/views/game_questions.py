"""The questions about a game that only its curator can answer, and the sheet that comes of them."""

from __future__ import annotations

import shlex
from dataclasses import replace
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.values.paths import shown_file

if TYPE_CHECKING:
    from rellum.core.actions.gather.describe_game import GameDraft
    from rellum.core.describing.game_signs import GameSigns, VersionSign
    from rellum.core.describing.sheet_text import SheetAnswers

_OTHER = "none of these"


def may_read(folder: str, count: int, *, yes: bool) -> bool:
    """Ask whether a folder with very many files is read."""
    question = f"{folder} has more than {count:,} files. Is that really one game?"
    return console.confirm(question, yes=yes, what="this reads a very large folder")


def ask(signs: GameSigns, answers: SheetAnswers) -> SheetAnswers:
    """Ask for what no folder can tell; Enter takes the likeliest answer."""
    console.say("Some questions about the game. Enter takes the answer in brackets.")
    name = console.ask("What is the game called?", answers.name)
    answers = replace(
        answers, name=name, version=_version(signs), asked=frozenset({"name", "version"})
    )
    mods = console.ask(
        "Which folder do mods go into, below the game folder?", answers.mods or "mods"
    )
    written = console.ask(
        "Which folders does the game write itself (logs, caches)? '-' for none.",
        ", ".join(answers.written_by_game) or "-",
    )
    console.say("What is yours is never vanilla: it is kept, and no update or restore touches it.")
    players = console.ask(
        "Which folders in the game are yours (saves, settings, screenshots)? '-' for none.",
        ", ".join(answers.players) or "-",
    )
    outside = [
        (name, where)
        for name, where in answers.outside
        if _is_yes(f"Does it keep things of yours in {where}, outside the game folder?")
    ]
    expansions = console.ask("Which files does it have only with an expansion? '-' for none.", "-")
    load_order = console.ask(
        "Which file lists its mods in the order in which it loads them? '-' for none.", "-"
    )
    store = console.ask("Which file does its store update it by? '-' for none.", "-")
    answers = replace(
        answers,
        mods=mods.strip("/"),
        written_by_game=_list(written),
        players=_list(players),
        outside=tuple(outside),
        expansions=_list(expansions),
        load_order="".join(_list(load_order)[:1]),
        store_files=_list(store),
        is_modded=not _is_yes("Is the game as its store installed it, without mods?"),
        asked=answers.asked | {"mods", "written", "players"},
    )
    forms = []
    for form in answers.forms:
        console.say(f"Mods seem to describe themselves in {form.file}:")
        console.table(("id", "version"), [tuple(each) for each in form.read])
        if _is_yes("Is that right?"):
            forms.append(form)
    return replace(answers, forms=tuple(forms))


def _none(question: str, answers: SheetAnswers) -> str:
    """Say that there are no such folders, or only that none has such a name."""
    return "none" if question in answers.asked else "no folder has such a name"


def _is_yes(question: str) -> bool:
    return console.choose(question, ("yes", "no"), likeliest_first=True) != "no"


def _version(signs: GameSigns) -> VersionSign | None:
    if not signs.versions:
        console.say(
            "Nothing in the folder tells the version: you state it when you adopt the game."
        )
        return None
    signs_shown = signs.versions[:3]
    words = [f"{each.version}  ({each.file}: {each.reason})" for each in signs_shown]
    said = console.choose(
        "Which version is it, and what tells it?", (*words, _OTHER), likeliest_first=True
    )
    return signs_shown[words.index(said)] if said in words else None


def _list(text: str) -> tuple[str, ...]:
    names = (each.strip().strip("/") for each in text.split(","))
    return tuple(each for each in names if each and each != "-")


def show(draft: GameDraft, folder: str, to: str, *, as_json: bool) -> None:
    """Say where the sheet is, what it says, and what to do next."""
    answers = draft.answers
    if as_json:
        console.say_json(
            {
                "sheet": to,
                "id": answers.id,
                "name": answers.name,
                "version": answers.version.version if answers.version else None,
                "versions": [
                    {"version": each.version, "file": each.file, "reason": each.reason}
                    for each in draft.signs.versions
                ],
                "marks": list(draft.signs.marks),
                "mods": answers.mods or None,
                "yours": list(answers.players),
                "written_by_game": list(answers.written_by_game),
                "self_descriptions": [form.file for form in answers.forms],
                "to_decide": draft.marks,
                "text": draft.text,
            }
        )
        return
    version = answers.version
    console.say(console.styled(f"{answers.name}: {shown_file(to)}", "bold"))
    console.facts(
        [
            ("marks", ", ".join(draft.signs.marks)),
            (
                "version",
                f"{version.version}, from {version.file}" if version else "nothing tells it",
            ),
            ("mods", answers.mods or "not known"),
            ("yours", ", ".join(answers.players) or _none("players", answers)),
            ("by game", ", ".join(answers.written_by_game) or _none("written", answers)),
            *(("outside", f"{name} is {where}") for name, where in answers.outside),
            (
                "mods say",
                ", ".join(form.file for form in answers.forms) or "nothing is known",
            ),
        ]
    )
    if draft.marks:
        marked = console.count_text(draft.marks, "line")
        console.say(f"{marked} marked 'FILL IN': look at each, correct it, and remove the mark.")
    if answers.is_modded:
        console.say(
            "Its mods would count as vanilla. When you have adopted it, install the game again in"
        )
        console.say(
            "another folder, and run: rellum identify THAT-FOLDER --write, then adopt it --anew."
        )
    stated = "" if version else " --version VERSION"
    console.say(f"Next: rellum adopt {shlex.quote(folder)}{stated}")
