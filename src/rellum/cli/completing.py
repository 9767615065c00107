"""What a shell may complete a call of ``rellum`` with: read from the pack's files, no card parsed."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Final

SCRIPTS: Final = {
    "bash": """\
_rellum() {
    local IFS=$'\\n'
    COMPREPLY=($(rellum completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
    [ ${#COMPREPLY[@]} -eq 0 ] && COMPREPLY=($(compgen -f -- "${COMP_WORDS[COMP_CWORD]}"))
}
complete -o filenames -F _rellum rellum
""",
    "zsh": """\
#compdef rellum
_rellum() {
    local -a found
    found=("${(@f)$(rellum completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
    if [[ -n "${found[1]}" ]]; then compadd -- "${found[@]}"; else _files; fi
}
compdef _rellum rellum
""",
    "fish": """\
function __rellum_words
    rellum completion words -- (commandline -opc)[2..-1] (commandline -ct) 2>/dev/null
end
complete -c rellum -a '(__rellum_words)'
""",
    "powershell": """\
Register-ArgumentCompleter -Native -CommandName rellum -ScriptBlock {
    param($word, $call, $position)
    $words = @($call.CommandElements | Select-Object -Skip 1 | ForEach-Object { "$_" })
    if (-not $word) { $words += "" }
    rellum completion words '--' @words 2>$null | ForEach-Object {
        [System.Management.Automation.CompletionResult]::new($_, $_, "ParameterValue", $_)
    }
}
""",
}
"""The script of each shell. It asks the program for the words, so that it never has to be made again."""

_VERSION = re.compile(r'^\s*version\s*=\s*"([^"]+)"', re.MULTILINE)
_PATHS = ("restore", "sweep", "absorb")
_SECOND: Final[dict[str, tuple[str, ...]]] = {
    "backup": ("make", "list", "show", "compare", "back", "check", "drop", "export", "import"),
    "variant": ("list", "new", "use", "drop", "rename", "compare"),
    "shelf": ("list", "check", "trim", "drop"),
    "kept": ("list", "back", "out", "drop"),
    "guard": ("on", "off"),
    "trial": ("works", "breaks"),
    "completion": tuple(SCRIPTS),
}


def candidates(words: Sequence[str]) -> list[str]:
    """Return what the last of these words may become; nothing where a file is meant, or nothing is known."""
    *before, last = words
    found: Iterable[str]
    if not before:
        from rellum.cli.app import _MODULES

        found = _MODULES
    elif last.startswith("-"):
        found = _options(before[0])
    else:
        try:
            found = _values(before)
        except (OSError, ValueError):
            found = ()
    return sorted(each for each in found if each.startswith(last))


def _options(command: str) -> list[str]:
    from rellum.cli.app import _MODULES, _command

    if command not in _MODULES:
        return []
    return [each for one in _command(command).params for each in one.opts if each[:2] == "--"]


def _values(before: Sequence[str]) -> Iterable[str]:
    """Return what may come after these words."""
    command, *given = before
    plain = [each for each in given if not each.startswith("-")]
    if before[-1] in ("--newest", "--mod", "--fresh", "--with"):
        return _mods()
    if before[-1] == "--forget":
        return _checkpoints()
    if not plain and command in _SECOND:
        return _SECOND[command]
    kind = _KINDS.get((command, plain[0] if plain and command in _SECOND else ""))
    if kind:
        return kind()
    if command in ("hold", "why") and len(plain) < 2:
        return _versions(plain[0]) if plain else _mods()
    if command == "decide":
        from rellum.core.actions.change.decide import FORMS

        if not plain:
            return list(FORMS)
        form = FORMS.get(plain[0])  # type: ignore[call-overload]  # a word that is none gives None
        return form.words if form else ()
    return _game_paths() if command in _PATHS else ()


def _pack() -> str:
    from rellum.core.pack.finding import find_pack

    return find_pack(".")


def _mods() -> list[str]:
    """Return the ids of all cards, by the names of their files."""
    found: set[str] = set()
    for folder in _catalogs():
        cards = os.path.join(folder, "cards")
        if os.path.isdir(cards):
            found |= {name[:-5] for name in os.listdir(cards) if name.endswith(".toml")}
    return sorted(found)


def _catalogs() -> list[str]:
    import tomllib

    pack = _pack()
    with open(os.path.join(pack, "rellum.toml"), "rb") as file:
        said = tomllib.load(file)
    named = said.get("pack", {}).get("catalogs", [])
    return [os.path.join(pack, each) for each in (*named, "own-mods")]


def _versions(mod: str) -> list[str]:
    for folder in _catalogs():
        card = os.path.join(folder, "cards", f"{mod}.toml")
        if os.path.isfile(card):
            with open(card, encoding="utf-8") as file:
                return sorted(set(_VERSION.findall(file.read())))
    return []


def _wants() -> list[str]:
    import tomllib

    with open(os.path.join(_pack(), "rellum.toml"), "rb") as file:
        return list(tomllib.load(file).get("want", {}))


def _checkpoints() -> list[str]:
    from rellum.core.pack.home import PackHome
    from rellum.core.pack.peek import checkpoint_names

    return checkpoint_names(PackHome(_pack()))


def _variants() -> list[str]:
    from rellum.core.pack.home import PackHome
    from rellum.core.pack.variants import variants_of

    return [each.name for each in variants_of(PackHome(_pack()))]


def _checkpoints_and_variants() -> list[str]:
    return ["now", *_checkpoints(), *_variants()]


def _backups() -> list[str]:
    from rellum.core.pack.backups import Backups
    from rellum.core.pack.home import PackHome

    folder = PackHome(_pack()).backups_folder
    if not os.path.isdir(folder):
        return []
    with Backups(folder) as backups:
        return [each.name or str(each.number) for each in backups.all()]


def _game_paths() -> list[str]:
    """Return the files and folders at the top of the game."""
    from rellum.core.pack.home import PackHome
    from rellum.core.pack.peek import game_folder_of

    folder = game_folder_of(PackHome(_pack()))
    with os.scandir(folder) as entries:
        return [f"{each.name}/" if each.is_dir() else each.name for each in entries]


_KINDS: Final[dict[tuple[str, str], Callable[[], list[str]]]] = {
    ("want", ""): _mods,
    ("news", ""): _mods,
    ("history", ""): _mods,
    ("resolve", ""): _mods,
    ("drop", ""): _wants,
    ("rewind", ""): _checkpoints,
    ("checkpoint", ""): _checkpoints,
    ("compare", ""): _checkpoints_and_variants,
    ("variant", "use"): _variants,
    ("variant", "drop"): _variants,
    ("variant", "rename"): _variants,
    ("variant", "compare"): _variants,
    ("backup", "show"): _backups,
    ("backup", "compare"): _backups,
    ("backup", "back"): _backups,
    ("backup", "drop"): _backups,
    ("backup", "export"): _backups,
    ("trial", "works"): _mods,
    ("trial", "breaks"): _mods,
}
