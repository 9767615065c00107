"""How mods write ranges of versions about themselves, translated into Rellum's ranges.

The notations: ``comparators`` (``>=1.2 <2``, ``~=1.2`` as in PEP 440), ``semver`` (``^1.2``, ``~1.2``,
``1.x``, ``1.0 - 2.0``, ``||``), ``intervals`` (``[1.0,2.0)``), and plain versions that mean ``at-least``,
``exactly`` or ``beginning`` with that version. What does not parse is never guessed: it is quoted.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Final, NewType

from rellum.core.versions.orderings import parse_version
from rellum.core.versions.ranges import RangeSyntaxError, parse_range
from rellum.core.versions.version import VersionSyntaxError

Notation = NewType("Notation", str)

MOST_SIGNS: Final = 400
"""A longer range is not read."""

ANY: Final = "*"
_VERSION: Final = r"v?[0-9][0-9A-Za-z.+_-]*"
_SIGNS: Final = ">=|<=|==|!=|~=|~>|=>|=<|>|<|="
_COMPARATOR: Final = re.compile(rf"(?P<sign>{_SIGNS})?\s*(?P<version>{_VERSION}(?:\.\*)?)")
_HYPHEN: Final = re.compile(rf"(?P<low>{_VERSION})\s+-\s+(?P<high>{_VERSION})")
_SEMVER_TERM: Final = re.compile(
    r"(?P<sign>\^|~>|~|>=|<=|>|<|=)?\s*v?(?P<version>[0-9xX*][^\s,|]*)"
)
_INTERVAL: Final = re.compile(
    r"(?P<open>[\[(])(?P<low>[^,\[\]()]*)(?P<comma>,?)(?P<high>[^,\[\]()]*)(?P<close>[\])])"
)


class NotRead(ValueError):
    """A range that the notation does not have."""


def translate(text: str, notation: Notation) -> str:
    """Return a mod's range as Rellum writes it. Raises NotRead."""
    said = " ".join(text.split())
    if len(said) > MOST_SIGNS:
        raise NotRead(f"a range of {len(said):,} signs")
    found = NOTATIONS[notation](said) if said not in ("", ANY) else ANY
    try:
        is_empty = parse_range(found).is_empty
    except (RangeSyntaxError, VersionSyntaxError, ValueError) as error:
        raise NotRead(str(error)) from error
    if is_empty:
        raise NotRead(f"no version at all matches {said!r}")
    return found


def _whole(text: str) -> str:
    """Check one version. Raises NotRead."""
    try:
        return parse_version(text.removeprefix("v").strip()).text
    except VersionSyntaxError as error:
        raise NotRead(f"{text!r} is not a version") from error


def _at_least(text: str) -> str:
    return f">={_whole(text)}"


def _exactly(text: str) -> str:
    return _whole(text)


def _beginning(text: str) -> str:
    return f"{_whole(text)}.*"


def _terms(text: str, pattern: re.Pattern[str]) -> list[re.Match[str]]:
    """Return the terms that a text consists of, with blanks and commas between them. Raises NotRead."""
    found: list[re.Match[str]] = []
    at = 0
    while at < len(text):
        if text[at] in " ,":
            at += 1
            continue
        match = pattern.match(text, at)
        if match is None or match.end() == at:
            raise NotRead(f"{text[at : at + 20]!r} is no comparison")
        found.append(match)
        at = match.end()
    if not found:
        raise NotRead(f"{text!r} has no version")
    return found


def _comparators(text: str) -> str:
    alternatives = []
    for part in re.split(r"\|\|?|\bor\b", text):
        terms = []
        for match in _terms(part, _COMPARATOR):
            sign, version = match["sign"] or "", match["version"].removeprefix("v")
            if sign in ("~=", "~>"):
                terms.append(_compatible(version))
            else:
                terms.append({"=>": ">=", "=<": "<=", "==": "="}.get(sign, sign) + version)
        alternatives.append(", ".join(terms))
    return " | ".join(alternatives)


def _compatible(version: str) -> str:
    """Return what ``~=1.4.2`` means: at least that, and the same but for the last number (PEP 440)."""
    numbers = version.split(".")
    if len(numbers) < 2:
        raise NotRead(f"'~={version}' needs two numbers")
    return f">={version}, {'.'.join(numbers[:-1])}.*"


def _semver(text: str) -> str:
    alternatives = []
    for part in re.split(r"\|\|?", text):
        if hyphen := _HYPHEN.fullmatch(part.strip()):
            alternatives.append(f">={hyphen['low']}, {_up_to(hyphen['high'])}")
            continue
        terms = [_semver_term(match) for match in _terms(part, _SEMVER_TERM)]
        alternatives.append(", ".join(term for term in terms if term != ANY) or ANY)
    return " | ".join(alternatives)


def _up_to(version: str) -> str:
    """Return the upper end of ``1.0 - 2.3``: a version in full is in it, of a part all that begins so."""
    numbers = _numbers(version)
    return f"<={version}" if len(numbers) >= 3 else f"<{_raised(numbers, len(numbers) - 1)}"


def _semver_term(match: re.Match[str]) -> str:
    sign, version = match["sign"] or "", match["version"]
    if re.search(r"[xX*]", version.split("-")[0]):
        return _wild(sign, version)
    numbers = _numbers(version)
    if sign == "^":
        first = next((n for n, number in enumerate(numbers) if number), len(numbers) - 1)
        return f">={version}, <{_raised(numbers, first)}"
    if sign in ("~", "~>"):
        return f">={version}, <{_raised(numbers, min(1, len(numbers) - 1))}"
    if sign in ("", "="):
        return version if len(numbers) >= 3 else f"{version}.*"
    return f"{sign}{version}"


def _wild(sign: str, version: str) -> str:
    fixed = [part for part in re.split(r"\.", version) if part not in ("x", "X", "*")]
    if not fixed:
        return ANY
    if sign in ("", "=", "~", "~>") or (sign == "^" and len(fixed) == 1):
        return f"{'.'.join(fixed)}.*"
    if sign == "^":
        return f">={'.'.join(fixed)}, <{_raised(_numbers('.'.join(fixed)), 0)}"
    raise NotRead(f"'{sign}{version}' mixes a comparison with a wildcard")


def _numbers(version: str) -> list[int]:
    """Return the numbers of a version, without what is before the release or of the build."""
    parts = re.split(r"[-+]", version.removeprefix("v"))[0].split(".")
    if not all(part.isascii() and part.isdigit() for part in parts):
        raise NotRead(f"{version!r} is not numbers with points between them")
    return [int(part) for part in parts[:6]]


def _raised(numbers: list[int], place: int) -> str:
    return ".".join(map(str, [*numbers[:place], numbers[place] + 1]))


def _intervals(text: str) -> str:
    if text[0] not in "[(":
        return _at_least(text)
    found = []
    rest = text
    while rest := rest.lstrip(" ,"):
        match = _INTERVAL.match(rest)
        if match is None:
            raise NotRead(f"{rest[:20]!r} is no interval")
        found.append(_interval(match))
        rest = rest[match.end() :]
    return " | ".join(found)


def _interval(match: re.Match[str]) -> str:
    low, high = match["low"].strip(), match["high"].strip()
    if not match["comma"]:
        if match["open"] != "[" or match["close"] != "]" or not low:
            raise NotRead(f"{match[0]!r} is no interval")
        return low
    terms = []
    if low:
        terms.append((">=" if match["open"] == "[" else ">") + low)
    if high:
        terms.append(("<=" if match["close"] == "]" else "<") + high)
    return ", ".join(terms) or ANY


NOTATIONS: Final[dict[Notation, Callable[[str], str]]] = {
    Notation("at-least"): _at_least,
    Notation("exactly"): _exactly,
    Notation("beginning"): _beginning,
    Notation("comparators"): _comparators,
    Notation("semver"): _semver,
    Notation("intervals"): _intervals,
}
"""Every notation that a sheet can name."""
