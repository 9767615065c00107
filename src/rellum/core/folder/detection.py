"""Telling what a game folder is: game, version, edition and expansions, by the game sheets' rules."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

from rellum.core.catalog.model import GameSheet, Rule
from rellum.core.catalog.toml_lines import line_of, place_of
from rellum.core.errors import UserError
from rellum.core.folder.identity import Identity
from rellum.core.hashing import hash_file, sha256_file
from rellum.core.values.paths import Roots, shown
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import Version, VersionSyntaxError

_TEXT_BYTES = 64 * 1024
"""How much of a file a pattern is tried on."""


_MOST_SECONDS = 2.0
"""Sheets come from strangers: a pattern can be such that it would never end."""


class PatternTooSlow(UserError):
    """A pattern of a game sheet does not come to an end in time."""

    code = "pattern-too-slow"


class UnknownGame(UserError):
    """The folder is no game that a sheet describes, or its version cannot be told."""

    code = "unknown-game"


def find_sheet(sheets: Iterable[GameSheet], roots: Roots) -> GameSheet | None:
    """Return the one sheet all of whose marks are in the folder. Raises UnknownGame for several."""
    fitting = [
        sheet
        for sheet in sheets
        if all(os.path.exists(roots.absolute(mark)) for mark in sheet.marks)
    ]
    if len(fitting) > 1:
        raise UnknownGame(
            f"{roots.game_folder} fits several game sheets: "
            + ", ".join(sheet.id for sheet in fitting),
            hint="Choose one with --sheet.",
        )
    return fitting[0] if fitting else None


def identify_now(sheet: GameSheet, roots: Roots) -> Identity | None:
    """Apply a sheet's rules to a folder; None where no version rule holds. Raises OSError."""
    try:
        return identify(sheet, roots)
    except UnknownGame:
        return None


def identify(sheet: GameSheet, roots: Roots, *, stated: Version | None = None) -> Identity:
    """Apply a sheet's rules to a folder. Raises UnknownGame where no version rule holds.

    ``stated`` is the version where somebody says it and no rule is to tell.
    """
    evidence: list[str] = []
    version_text = edition = None
    if stated is not None:
        version_text = stated.text
        evidence.append(f"version {stated}: stated when the game was adopted")
    for rule in sheet.version_rules if stated is None else ():
        if answer := _answer(rule, roots):
            version_text = answer
            evidence.append(f"version {answer}: {_reason(rule)}")
            break
    if version_text is None:
        raise UnknownGame(
            f"cannot tell the version of {sheet.name} in {roots.game_folder}",
            details=tuple(f"tried: {_reason(rule)}" for rule in sheet.version_rules),
            hint="The game may be damaged, or newer than its sheet: add a [[version]] rule to it, or "
            "state the version when adopting: --version 1.6",
        )
    for rule in sheet.edition_rules:
        if edition := _answer(rule, roots):
            evidence.append(f"edition {edition}: {_reason(rule)}")
            break
    expansions = []
    for rule in sheet.expansion_rules:
        if answer := _answer(rule, roots):
            expansions.append(answer)
            evidence.append(f"expansion {answer}: {_reason(rule)}")
    try:
        version = parse_version(version_text)
    except VersionSyntaxError as error:
        raise UnknownGame(
            f"the game says that its version is {version_text!r}, which is not a version",
            hint="Correct the pattern of the [[version]] rule in the game sheet.",
        ) from error
    return Identity(
        sheet=sheet.id,
        name=sheet.name,
        version=version,
        edition=edition or None,
        expansions=tuple(sorted(set(expansions))),
        evidence=tuple(evidence),
    )


def _answer(rule: Rule, roots: Roots) -> str:
    """Return what a rule says of the folder; an empty text where it does not hold."""
    path = roots.absolute(rule.file)
    if not os.path.isfile(path):
        return ""
    try:
        if rule.blake3 and hash_file(path) != rule.blake3:
            return ""
        if rule.sha256 and sha256_file(path) != rule.sha256:
            return ""
        if rule.pattern is None:
            return rule.answer
        with open(path, "rb") as file:
            text = file.read(_TEXT_BYTES).decode("utf-8", "replace")
    except (FileNotFoundError, IsADirectoryError):
        return ""  # any other failure says nothing about the game, and is reported
    match = _search(rule, text)
    if match is None:
        return ""
    return rule.answer or match["version"]


def _search(rule: Rule, text: str) -> Any:
    """Look for a sheet's pattern in a text. Raises PatternTooSlow."""
    import regex

    assert rule.pattern is not None
    try:
        return regex.search(rule.pattern, text, regex.MULTILINE, timeout=_MOST_SECONDS)
    except TimeoutError as error:
        raise PatternTooSlow(
            f"{place_of(rule.source.at('pattern'))}: the pattern takes more than {_MOST_SECONDS:g} seconds "
            f"on {shown(rule.file)}",
            hint="Write one with fewer repeats inside repeats.",
        ) from error


def _reason(rule: Rule) -> str:
    file = shown(rule.file)
    if rule.pattern is not None:
        what = f"the text of {file}"
    elif rule.blake3 or rule.sha256:
        what = f"the hash of {file}"
    else:
        what = f"there is {file}"
    sheet = os.path.basename(rule.source.file)
    return f"{what} ({sheet}:{line_of(rule.source)})"
