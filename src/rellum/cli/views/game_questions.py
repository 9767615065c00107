"""The questions about a game that only its curator can answer, and the sheet that comes of them."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from rellum.cli import console
from rellum.core.describing.sheet_text import outside_folders
from rellum.core.values.paths import shown_file

if TYPE_CHECKING:
    from rellum.core.actions.gather.describe_game import GameDraft
    from rellum.core.describing.first_start import Surroundings
    from rellum.core.describing.game_signs import GameSigns, VersionSign
    from rellum.core.describing.own_form import OwnForm
    from rellum.core.describing.sheet_text import SheetAnswers

_OTHER = "none of these"
_EDITION = "edition:"


def may_read(folder: str, count: int, *, yes: bool) -> bool:
    """Ask whether a folder with very many files is read."""
    question = f"{folder} has more than {count:,} files. Is that really one game?"
    return console.confirm(question, yes=yes, what="this reads a very large folder")


def ask(signs: GameSigns, answers: SheetAnswers, around: Surroundings) -> SheetAnswers:
    """Ask for what no folder can tell; Enter takes the likeliest answer."""
    console.say(
        "Some questions about the game. Enter takes the answer in brackets, '-' means none."
    )
    is_modded = not _is_yes("Is the game as its store installed it, without mods?")
    name = console.ask("What is the game called?", answers.name)
    answers = replace(answers, name=name, version=_version(signs), is_modded=is_modded)
    answers = _ask_where(_after_a_start(answers, around), around)
    answers = _ask_what_belongs(signs, answers)
    asked = frozenset(("name", "version", "mods", "written", "players", "outside", "expansions"))
    return replace(answers, forms=_forms(answers.forms), asked=asked)


def _after_a_start(answers: SheetAnswers, around: Surroundings) -> SheetAnswers:
    """Let the person start the game once: what it writes then is better than any guess by names."""
    around.look_again()
    console.say(
        "What a game writes tells best what is yours in it. Start it once now, change a setting,"
    )
    said = console.ask("save, and leave it. Then press Enter; or type 'skip'.", "done")
    if said == "skip":
        return answers
    seen = around.look_again()
    if seen.is_empty:
        console.say("Nothing has changed since, in the game folder or in your own folders.")
        return answers
    shown = (*seen.players, *seen.written_by_game, *seen.outside)
    console.say(f"It wrote: {', '.join(shown)}")
    outside = dict.fromkeys((*(folder for _, folder in answers.outside), *seen.outside))
    return replace(
        answers,
        players=_joined(answers.players, seen.players),
        written_by_game=_joined(answers.written_by_game, seen.written_by_game),
        outside=outside_folders(list(outside)),
    )


def _joined(guessed: Sequence[str], seen: Sequence[str]) -> tuple[str, ...]:
    """Return both, without what lies in a folder that is named itself."""
    both = dict.fromkeys((*guessed, *seen))
    return tuple(each for each in both if not any(each.startswith(f"{other}/") for other in both))


def _ask_where(answers: SheetAnswers, around: Surroundings) -> SheetAnswers:
    """Ask where the player's own things are, and what the game writes itself."""
    console.say("What is yours is never vanilla: it is kept, and no update or restore touches it.")
    said = console.ask(
        "Where outside the game folder does it keep settings or saves?",
        ", ".join(folder for _, folder in answers.outside) or "-",
    )
    folders = []
    for each in filter(None, (part.strip() for part in said.split(",") if said != "-")):
        if folder := around.as_user_folder(each):
            folders += [folder] if folder not in folders else []
        else:
            console.warn(
                f"{each} is left out: a place outside lies in a folder of its own below your documents, "
                "configuration, data or home folder"
            )
    players = console.ask(
        "Which folders or files in the game folder are yours?", ", ".join(answers.players) or "-"
    )
    written = console.ask(
        "Which does the game write itself (logs, caches)?",
        ", ".join(answers.written_by_game) or "-",
    )
    return replace(
        answers,
        outside=outside_folders(folders),
        players=_list(players),
        written_by_game=_list(written),
    )


def _ask_what_belongs(signs: GameSigns, answers: SheetAnswers) -> SheetAnswers:
    """Ask where mods go, and what is there only with an expansion, a store or an order of mods."""
    mods = _list(
        console.ask("Which folders do mods go into? The most usual first.", answers.mods or "mods")
    )
    with_expansion = _list(
        console.ask(
            "Which are there only with an expansion ('edition:' before those of an edition)?",
            ", ".join(signs.alike) or "-",
        )
    )
    load_order = console.ask("Which file lists its mods in the order in which it loads them?", "-")
    store = console.ask("Which file does its store update it by?", "-")
    return replace(
        answers,
        mods="".join(mods[:1]),
        more_places=mods[1:],
        expansions=tuple(each for each in with_expansion if not each.startswith(_EDITION)),
        editions=tuple(
            each.removeprefix(_EDITION).strip(" /")
            for each in with_expansion
            if each.startswith(_EDITION)
        ),
        load_order="".join(_list(load_order)[:1]),
        store_files=_list(store),
    )


def _forms(forms: Sequence[OwnForm]) -> tuple[OwnForm, ...]:
    """Ask which of the forms are those in which mods describe themselves."""
    if not forms:
        return ()
    console.say("Mods seem to describe themselves:")
    rows = [(form.file, *each) for form in forms for each in form.read]
    console.table(("file", "id", "version"), rows)
    right = _list(
        console.ask("Which of the files are that?", ", ".join(each.file for each in forms))
    )
    return tuple(form for form in forms if form.file in right)


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
                "open_line_count": draft.marks,
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
