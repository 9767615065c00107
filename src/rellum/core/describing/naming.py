"""Id, name and version of a mod, as far as names and what lies inside tell them."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from rellum.core.describing.builds import NO_SIGNS, BuildSigns
from rellum.core.describing.name_parts import NameParts, parts_of_name, stem_of
from rellum.core.describing.own_words import OwnWords, as_id, is_version
from rellum.core.versions.orderings import parse_version
from rellum.core.versions.version import VersionSyntaxError

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
    is_sure: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Naming:
    """What a mod seems to be called. ``is_patch``: its name says that it goes over another release."""

    id: Guess
    name: Guess
    version: Guess
    is_patch: bool
    own_id: str = ""


def guess_naming(
    archive: str,
    wrapper: str,
    told: Mapping[str, str],
    own: OwnWords | None = None,
    signs: BuildSigns = NO_SIGNS,
    inner: Sequence[OwnWords] = (),
) -> Naming:
    """Guess from the archive's name, the name of its one top folder (or nothing), and texts inside.

    ``told`` are the texts of files that tell of the archive, by path. What lies inside counts more
    than a folder's name, and that more than the file's, which anybody can change. ``own`` is what the
    mod says about itself, which counts most; ``signs`` what is no part of a mod's own name; ``inner`` what
    each of several mods in it says.
    """
    stem = stem_of(archive)
    of_file, of_folder = (parts_of_name(each, signs.game_versions) for each in (stem, wrapper))
    in_name, in_folder = f"the name {archive}", f"the folder {wrapper}"
    version = _first(
        _own_version(own, of_file, in_name),
        *(each for each in _told_all(told, "version") if is_version(each.value)),
        _in_text(told),
        Guess(value=of_file.version, source=in_name, is_sure=of_file.is_sure),
        Guess(value=of_folder.version, source=in_folder, is_sure=of_folder.is_sure),
        _shared_version(inner),
    )
    mod_id = _first(
        Guess(value=own.id if own else "", source=own.file if own else ""),
        *(Guess(value=as_id(each.value), source=each.source) for each in _told_all(told, "id")),
        Guess(value=signs.without_loader(as_id(of_file.words)), source=in_name),
        Guess(value=signs.without_loader(as_id(of_folder.words)), source=in_folder),
    )
    name = _first(
        Guess(value=own.name if own else "", source=own.file if own else ""),
        _told(told, "name"),
        _told(told, "title"),
        Guess(
            value=_titled(mod_id.value, f"{of_file.words} {of_folder.words}"), source=mod_id.source
        ),
    )
    words = re.split(r"[^a-z]+", stem.lower())
    return Naming(
        id=mod_id,
        name=name,
        version=version,
        is_patch=bool({"patch", "update", "hotfix"} & set(words)),
        own_id=own.said_id if own else "",
    )


def _titled(mod_id: str, words: str) -> str:
    """Return an id as a name; a few letters that are all capitals where it was taken from stay so."""
    found = re.findall(r"[A-Za-z0-9]+", words)
    is_loud = "".join(found).isupper()
    short = {
        each.lower(): each for each in found if each.isupper() and len(each) <= 4 and not is_loud
    }
    return " ".join(short.get(word) or word.title() for word in mod_id.split("-"))


def _own_version(own: OwnWords | None, of_file: NameParts, in_name: str) -> Guess:
    """Return the version that a mod says it has; not certain where the archive's name says another."""
    if own is None or not own.version:
        return Guess()
    agrees = not of_file.is_sure or _same(own.version, of_file.version)
    other = "" if agrees else f"; but {in_name} says {of_file.version}"
    return Guess(value=own.version, source=f"{own.file}{other}", is_sure=agrees)


def _shared_version(inner: Sequence[OwnWords]) -> Guess:
    """Return the version that all mods of an archive say they have."""
    versions = {each.version for each in inner}
    if len(versions) != 1:
        return Guess()
    return Guess(value=versions.pop(), source=f"all {len(inner)} mods in it")


def _same(one: str, other: str) -> bool:
    """Whether two versions are the same; or one begins with the other, as names leave out what is last."""
    try:
        if parse_version(one) == parse_version(other):
            return True
    except VersionSyntaxError:
        pass
    return f"{one}.".startswith(f"{other}.") or f"{other}.".startswith(f"{one}.")


def _first(*guesses: Guess) -> Guess:
    return next((each for each in guesses if each.value), Guess())


def _told(told: Mapping[str, str], field: str) -> Guess:
    return _first(*_told_all(told, field))


def _told_all(told: Mapping[str, str], field: str) -> list[Guess]:
    found = ((path, _field(path, text, field)) for path, text in told.items())
    return [Guess(value=value, source=path) for path, value in found if value]


def _field(path: str, text: str, field: str) -> str:
    """Return a field of a text: read as what its name says that it is, else found line by line."""
    if path.lower().endswith((".json", ".toml")):
        try:
            return _in_document(_read_document(path, text), field)
        except (ValueError, RecursionError):
            pass
    found = re.search(_FIELD.format(field), text)
    return found["value"].strip() if found else ""


def _read_document(path: str, text: str) -> object:
    if path.lower().endswith(".json"):
        return json.loads(text)
    import tomli

    return tomli.loads(text)


def _in_document(document: object, field: str, depth: int = 2) -> str:
    """Return a field at the top of a document, or of a table in it."""
    if not isinstance(document, dict) or not depth:
        return ""
    value = document.get(field)
    if isinstance(value, str | int | float) and not isinstance(value, bool):
        return str(value)[:80]
    below = (_in_document(each, field, depth - 1) for each in document.values())
    return next(filter(None, below), "")


def _in_text(told: Mapping[str, str]) -> Guess:
    """Find ``version 1.2`` in running text."""
    return _first(
        *(
            Guess(value=found["value"].rstrip("."), source=path)
            for path, text in told.items()
            if (found := _IN_TEXT.search(text))
        )
    )
