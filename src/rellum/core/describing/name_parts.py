"""Id and version in the name of a file: which digits are the version, and what is left of the name."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from typing import Final, NamedTuple

from rellum.core.archives.forms import ENDINGS

_ENDING_WORDS = sorted({word for ending in ENDINGS for word in ending.split(".") if word})
_ARCHIVE: Final = rf"(?:{'|'.join(_ENDING_WORDS)})"
_ENDINGS: Final = re.compile(
    rf"(?:\.(?:{_ARCHIVE}|pak|mod|exe|jar))+(?:\.\d{{3}})?$|\.z\d\d$", re.IGNORECASE
)
_SYSTEM: Final = r"(?:win|windows|linux|mac|macos|osx)[ _-]?(?:32|64|\d\d)?(?:[ _-]?bit)?"
_MACHINE: Final = (
    r"x86[_-]64|x86|x64|amd64|arm64|aarch64|i[3-6]86|(?:32|64)[ _-]?bit|noarch|py[23]?-none-any"
)
_SCREEN: Final = r"[248]k|(?:1080|720|2160)p|dx(?:9|1[0-2])|gl[2-4]"
_PLATFORM: Final = re.compile(
    rf"(?<![A-Za-z0-9])(?:{_SYSTEM}|{_MACHINE}|{_SCREEN})(?![A-Za-z0-9])", re.IGNORECASE
)
_DATE: Final = r"(?:19|20)\d\d[-_.](?:0[1-9]|1[0-2])[-_.](?:0[1-9]|[12]\d|3[01])"
_DAY_FIRST: Final = r"\d{1,2}[-._]\d{1,2}[-._](?:19|20)\d\d"
_WORD: Final = r"(?:alpha|beta|rc|pre|preview|dev|test|hotfix|fix|post|snapshot)"
_PRE: Final = rf"(?:[ _.~-]?{_WORD}[ _.-]?\d*|[a-z]\d{{1,3}}|[a-z](?![A-Za-z]))"
_DASHES: Final = r"\d{1,3}(?:-\d{1,3}){2,3}(?![._]?\d)|(?<=[-_ ])\d{1,2}-\d{1,2}$"
_REVISION: Final = r"(?:-\d{1,2}(?![.\d-]))"
_NUMBERS: Final = rf"\d+(?:\.\d+)+{_REVISION}?|\d+(?:_\d+)+(?![._]\d)|\d+"
_CANDIDATE: Final = re.compile(
    r"(?P<marker>(?:(?<![A-Za-z])(?:version|ver|v|rev|r|build|b)"
    r"|(?-i:(?<=[a-z])V)|(?<=[a-z])v(?=\d+\.\d))[ _.-]?)?"
    rf"(?P<text>{_DATE}|{_DAY_FIRST}|{_DASHES}|(?:{_NUMBERS}){_PRE}?)(?![A-Za-z0-9])"
    r"(?:\+[0-9A-Za-z.]+$)?",
    re.IGNORECASE,
)
_NOISE: Final = frozenset(
    ("file", "files", "final", "for", "full", "hotfix", "latest", "main", "mod", "pack", "patch", "release",
     "setup", "standalone", "update", "zip", "installer", "portable", "stable", "version")
)  # fmt: skip
_COPY: Final = re.compile(r"[ _]?\(\d{1,2}\)$")
"""What a browser adds to the name of a second copy."""
_OLDER: Final = re.compile(r"\d+(?:[._]\d+)*(?=[ _-]to[ _-]v?\d)|(?<=\d)[ _-]to(?=[ _-]v?\d)")
"""The version that an update begins from, in a name like ``1.2-to-1.3``."""
_NUMBERED: Final = re.compile(
    r"(?:vol|volume|chapter|episode|act|book|season|part)[ _.-]?$", re.IGNORECASE
)
"""Words whose numbers belong to a name."""
_PART: Final = re.compile(r"[ _.-]part[ _.-]?\d+$", re.IGNORECASE)
_NO_NAME: Final = re.compile(r"(?:(?:19|20)\d\d|\d{5,})\Z")
"""A year, a date, or a number that a site gave, where it follows a version."""
_YEAR: Final = re.compile(r"(?:19|20)\d\d\Z")
_CLOSE: Final = 2
"""Two candidates whose points differ by less are both possible."""


class NameParts(NamedTuple):
    """What a name says: the version (empty: none), whether that is certain, and the words without it.

    ``game`` is a version of the game that stands in the name.
    """

    version: str
    is_sure: bool
    words: str
    game: str = ""


class _Candidate(NamedTuple):
    points: int
    text: str
    begin: int
    end: int
    is_ambiguous: bool = False


def stem_of(name: str) -> str:
    """Return a file's name without the endings of archives; ``.001`` counts only after one of them."""
    return _PART.sub("", _COPY.sub("", _ENDINGS.sub("", name)))


def parts_of_name(stem: str, game_versions: Collection[str] = ()) -> NameParts:
    """Return what the name of an archive or a folder says. ``game_versions`` are not the mod's own."""
    first_word = len(re.match(r"[^ _.\-()\[\]]*", stem)[0])  # type: ignore[index]
    masked = _PLATFORM.sub(
        lambda found: found[0] if found.start() < first_word else "~" * len(found[0]), stem
    )
    masked = _OLDER.sub(lambda older: "~" * len(older[0]), masked)
    found = [
        _candidate(match, masked)
        for match in _CANDIDATE.finditer(masked)
        if not _belongs_to_name(match, masked)
    ]
    games = _of_game(found, game_versions)
    own = [each for each in found if each not in games] or found
    best = max(own, key=lambda each: (each.points, each.begin), default=None)
    if best is None or (best.points < 0 and best.begin == 0):
        return NameParts("", False, _words(masked, ()))
    second = max((each.points for each in own if each is not best), default=-99)
    years = (each for each in own if each.begin > best.end and _NO_NAME.match(each.text))
    spans = [best, *(_with_letters(each, masked) for each in games if each is not best), *years]
    game = next((_plain(each.text) for each in games if each is not best), "")
    is_sure = best.points > 0 and best.points - second >= _CLOSE and not best.is_ambiguous
    return NameParts(_plain(best.text), is_sure, _words(masked, spans), game)


def _of_game(found: Sequence[_Candidate], game_versions: Collection[str]) -> list[_Candidate]:
    """Return the versions of the game in a name: known ones, else those that differ in the third number."""
    known = [each for each in found if _plain(each.text) in game_versions]
    lines = {each.rpartition(".")[0] for each in game_versions if each.count(".") == 2}
    beside = [each for each in found if _plain(each.text).rpartition(".")[0] in lines]
    others = [each for each in found if each not in beside and "." in _plain(each.text)]
    return known or (beside if others else [])


def _with_letters(candidate: _Candidate, stem: str) -> _Candidate:
    """Return a version of the game with the letters that stand for the game before it: ``g2.4.1``."""
    letters = re.search(r"(?<![A-Za-z0-9])[A-Za-z]{1,4}[ _.-]?$", stem[: candidate.begin])
    is_glued = letters is not None and stem[candidate.begin - 1].isalpha()
    return candidate._replace(begin=letters.start()) if letters and is_glued else candidate


def _belongs_to_name(match: re.Match[str], stem: str) -> bool:
    """Whether a number is part of a word, or counts volumes."""
    if match["marker"]:
        return False
    before = stem[: match.start()]
    is_glued = before[-1:].isalpha() and match["text"].isdigit()
    return is_glued or bool(_NUMBERED.search(before))


def _candidate(match: re.Match[str], stem: str) -> _Candidate:
    text = match["text"]
    points = 3 if match["marker"] else 0
    if re.fullmatch(_DATE, text):
        points += 4
    else:
        groups = len(re.findall(r"\d+", text))
        points += (2 if "." in text else 0) + groups - 1
        points += 1 if re.search(r"[A-Za-z]", text) and groups > 1 else 0
        points -= 1 if _YEAR.match(text) else 0
    begin = match.start()
    if begin and stem[begin - 1].isalnum():
        points -= 2  # a digit glued to a word is rather a part of that
    if begin and not match["marker"] and points == 0:
        points = 1 if stem[begin - 1] in " _-." else 0  # a plain number at the end of a name
    is_open = re.match(r"[._]x\b", stem[match.end() :]) is not None  # 1.5.x is any of them
    is_ambiguous = is_open or bool(re.fullmatch(rf"{_DAY_FIRST}|\d+-\d+", text))
    return _Candidate(points, text, begin, match.end(), is_ambiguous)


def _plain(text: str) -> str:
    if re.fullmatch(_DATE, text):
        return re.sub(r"[_.]", "-", text)
    if re.fullmatch(_DAY_FIRST, text):
        return re.sub("[._]", "-", text)
    if re.fullmatch(r"\d+(?:-\d+)+", text):
        return text.replace("-", ".")
    return re.sub(r"_(?=\d)", ".", text).replace(" ", "").replace("_", "-").replace("~", "-")


def _words(stem: str, spans: Iterable[_Candidate]) -> str:
    """Return a name without the version and the words that say nothing, words apart."""
    without = stem
    for each in sorted(spans, key=lambda one: -one.begin):
        without = f"{without[: each.begin]} {without[each.end :]}"
    apart = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", without.replace("~", " "))
    words = [word for word in re.split(r"[^A-Za-z0-9]+", apart) if word]
    kept = [word for word in words if word.lower() not in _NOISE]
    return " ".join(kept or words)
