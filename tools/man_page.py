"""Make the man page again: ``python -m tools.man_page`` writes docs/rellum.1."""

from __future__ import annotations

import os
import re
from typing import Any

from rellum import __version__
from rellum.cli.app import GROUPS, _command
from rellum.cli.examples import EXAMPLES, STATUSES

FILE = os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "docs", "rellum.1")


def text() -> str:
    """Return the page in the man macros of troff."""
    lines = [
        f'.TH RELLUM 1 "" "rellum {__version__}" "User Commands"',
        ".SH NAME",
        r"rellum \- keep a modpack: choose releases, lay them over the game, bring vanilla back",
        ".SH SYNOPSIS",
        r".B rellum \fICOMMAND\fR [\fIOPTIONS\fR] [\fIARGUMENTS\fR]",
        ".SH DESCRIPTION",
        "A pack is a folder with a rellum.toml. Commands work on the pack that the current folder lies",
        "in, or in whose game it lies. A command that changes the game shows what it will do, and asks.",
        r"\fBrellum guide\fR shows the guide.",
    ]
    for heading, rows in GROUPS.items():
        lines.append(f".SH {_plain(heading.upper())}")
        for name, _, _ in rows:
            lines += _command_lines(name)
    lines.append(".SH EXIT STATUS")
    for status, meaning in re.findall(r"^  (\d+) +(.+)$", STATUSES, re.MULTILINE):
        lines += [".TP", f".B {status}", _plain(meaning)]
    lines += [
        ".SH ENVIRONMENT",
        ".TP",
        ".B RELLUM_SHELF",
        "The folder of the shelf, where archives are kept.",
        ".TP",
        ".B RELLUM_CATALOG",
        "The catalog, where the pack names none.",
        ".TP",
        ".B RELLUM_CACHE",
        "The folder in which cards that were read are kept.",
        ".TP",
        ".B NO_COLOR, CLICOLOR_FORCE, TERM=dumb",
        "No colour; colour also where the output is piped; no colour and no line that is written over.",
    ]
    return "\n".join(lines) + "\n"


def _command_lines(name: str) -> list[str]:
    command: Any = _command(name)
    lines = [f".SS rellum {name}", *map(_plain, (command.help or "").strip().split("\n\n"))]
    for each in command.params:
        if each.param_type_name == "option" and each.help:
            value = f" \\fI{_plain(each.metavar)}\\fR" if each.metavar else ""
            lines += [".TP", f"\\fB{_plain(', '.join(each.opts))}\\fR{value}", _plain(each.help)]
    lines.append(".PP")
    for example in EXAMPLES[name]:
        lines += [f".B {_plain(example)}", ".br"]
    return lines


def _plain(words: str) -> str:
    """Return text in which nothing is a request or an escape of troff."""
    line = " ".join(words.split()).replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{line}" if line[:1] in (".", "'") else line


if __name__ == "__main__":
    with open(FILE, "w", encoding="utf-8", newline="\n") as page:
        page.write(text())
