"""Id, name and version of a mod, as far as names and what lies inside tell them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

_ENDINGS: Final = re.compile(
    r"(\.(zip|7z|rar|tar|gz|bz2|xz|zst|tgz|tbz2?|txz|pak|mod|\d{3}))+$", re.IGNORECASE
)
_VERSION: Final = re.compile(
    r"(?:^|[ _\-.(\[]|(?<=[a-z]))v?(?P<version>\d+(?:[._]\d+)*(?:[ _.-]?(?:alpha|beta|rc|a|b)[ _.]?\d*)?)"
    r"(?=$|[ _\-.)\]])",
    re.IGNORECASE,
)
_NOISE: Final = frozenset(
    [
        "full",
        "patch",
        "update",
        "hotfix",
        "release",
        "final",
        "mod",
        "pack",
        "main",
        "file",
        "files",
        "zip",
        "setup",
        "standalone",
    ]
)
TOLD_IN: Final = re.compile(
    r"(^|/)(about|info|mod|modinfo|manifest|metadata|descriptor|package|read ?me|version)[^/]*"
    r"\.(ini|toml|json|txt|md|cfg|xml|ya?ml|info)$",
    re.IGNORECASE,
)
"""Names of files in which archives tell of themselves."""
_FIELD: Final = (
    r'(?im)^\s*[<"\']?{}["\']?\s*(?:[:=>]|version)\s*["\']?(?P<value>[^"\'<\r\n,]{{1,80}})'
)
_IN_TEXT: Final = re.compile(r"(?im)\bversion[: ]+v?(?P<value>\d+(?:\.\d+)+[a-z0-9.-]*)")


@dataclass(frozen=True, slots=True, kw_only=True)
class Guess:
    """A value, and where it comes from in words; both empty where nothing tells."""

    value: str = ""
    source: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Naming:
    """What a mod seems to be called. ``is_patch``: its name says that it goes over another release."""

    id: Guess
    name: Guess
    version: Guess
    is_patch: bool


def guess_naming(archive: str, wrapper: str, told: Mapping[str, str]) -> Naming:
    """Guess from the archive's name, the name of its one top folder (or nothing), and texts inside.

    ``told`` are the texts of files that tell of the archive, by path. What lies inside counts more
    than a folder's name, and that more than the file's, which anybody can change.
    """
    stem = _ENDINGS.sub("", archive)
    version = _first(
        _told(told, "version"),
        _in_text(told),
        Guess(value=_version_in(stem), source=f"the name {archive}"),
        Guess(value=_version_in(wrapper), source=f"the folder {wrapper}"),
    )
    mod_id = _first(
        *(Guess(value=_as_id(each.value), source=each.source) for each in _told_all(told, "id")),
        Guess(value=_as_id(_words(stem)), source=f"the name {archive}"),
        Guess(value=_as_id(_words(wrapper)), source=f"the folder {wrapper}"),
    )
    name = _first(
        _told(told, "name"),
        _told(told, "title"),
        Guess(value=mod_id.value.replace("-", " ").title(), source=mod_id.source),
    )
    words = re.split(r"[^a-z]+", stem.lower())
    return Naming(
        id=mod_id,
        name=name,
        version=version,
        is_patch=bool({"patch", "update", "hotfix"} & set(words)),
    )


def _first(*guesses: Guess) -> Guess:
    return next((each for each in guesses if each.value), Guess())


def _told(told: Mapping[str, str], field: str) -> Guess:
    return _first(*_told_all(told, field))


def _told_all(told: Mapping[str, str], field: str) -> list[Guess]:
    pattern = re.compile(_FIELD.format(field))
    return [
        Guess(value=found["value"].strip(), source=path)
        for path, text in told.items()
        if (found := pattern.search(text))
    ]


def _in_text(told: Mapping[str, str]) -> Guess:
    """Find ``version 1.2`` in running text."""
    return _first(
        *(
            Guess(value=found["value"].rstrip("."), source=path)
            for path, text in told.items()
            if (found := _IN_TEXT.search(text))
        )
    )


def _version_in(text: str) -> str:
    found = [match["version"] for match in _VERSION.finditer(text)]
    best = max(found, key=lambda each: (len(re.findall(r"\d+", each)), len(each)), default="")
    return best.replace("_", ".").replace(" ", "")


def _words(text: str) -> str:
    """Return a name without its version and the words that say nothing, words apart."""
    without = _VERSION.sub(" ", text)
    apart = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", without)
    words = [word for word in re.split(r"[^A-Za-z0-9]+", apart) if word]
    return " ".join(word for word in words if word.lower() not in _NOISE)


def _as_id(text: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60]
