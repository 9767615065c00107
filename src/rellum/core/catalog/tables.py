"""Reading TOML tables with every fault noted, so that one run shows all mistakes of a file."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

from rellum.core.catalog.release_rules import KeyPath, Source
from rellum.core.catalog.toml_lines import line_of, place_of
from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.values.paths import shown_file

Parsed = TypeVar("Parsed")

MAX_FILE_BYTES = 4 << 20
"""A card or sheet larger than this is refused unread."""


class FileFaults(UserError):
    """A TOML file of the catalog or the pack says something wrong; ``details`` has a line a fault."""

    code = "file-faults"


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """One mistake, and where it stands."""

    source: Source
    message: str

    def __str__(self) -> str:
        parts = self.source.key
        if len(parts) > 2 and isinstance(parts[1], int):  # the line already tells which release
            parts = parts[2:]
        key = ".".join(part for part in parts if isinstance(part, str))
        return ": ".join(filter(None, (place_of(self.source), key, self.message)))


def fault_lines(faults: Iterable[Fault]) -> list[str]:
    """Return the faults of one file in words, by line."""
    return list(map(str, sorted(faults, key=lambda fault: line_of(fault.source))))


def raise_faults(faults: Iterable[str], what: str) -> None:
    """Raise FileFaults if there is any fault; ``what`` names the files, e.g. "the catalog"."""
    details = tuple(dict.fromkeys(faults))
    if details:
        count = "a mistake" if len(details) == 1 else f"{len(details)} mistakes"
        raise FileFaults(
            f"{what} has {count}", details=details, hint="Correct these lines and try again."
        )


def parse_toml(file: str) -> tuple[dict[str, Any] | None, str]:
    """Return a TOML file's content, or None and the fault as one line."""
    name = shown_file(file)
    try:
        with open(file, "rb") as stream:
            content = stream.read(MAX_FILE_BYTES + 1)
    except OSError as error:
        return None, f"{name}:1: cannot be read: {error.strerror}"
    if len(content) > MAX_FILE_BYTES:
        return None, f"{name}:1: larger than {MAX_FILE_BYTES >> 20} MiB, too large for a card"
    # The standard library's reader, compiled and with limits to how deep a file may nest.
    import tomli

    try:
        return tomli.loads(content.decode("utf-8")), ""
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        return None, f"{name}:{line}: is not UTF-8 text"
    except tomli.TOMLDecodeError as error:
        return None, _syntax_fault(name, content.decode("utf-8"), str(error))
    except ValueError:
        return None, f"{name}:1: contains a number that is too long"
    except RecursionError:
        return None, f"{name}:1: is nested too deeply"


def _syntax_fault(name: str, text: str, message: str) -> str:
    """Turn "… (at line 3, column 7)" into ``file:3: …`` with the line and a caret under the spot."""
    reason, _, spot = message.rpartition(" (at ")
    numbers = [
        int(word) for word in spot.replace(",", " ").replace(")", " ").split() if word.isdigit()
    ]
    lines = text.split("\n")
    line, column = numbers if len(numbers) == 2 else (len(lines), len(lines[-1]) + 1)
    written = lines[line - 1].rstrip("\r")
    if len(written) > 200:
        return f"{name}:{line}: {reason or message}"
    return f"{name}:{line}: {reason or message}\n    {written}\n    {' ' * (column - 1)}^"


class TableReader:
    """A TOML table whose keys are taken one by one; faults are noted, never raised.

    ``finish`` notes every key that nobody took, so that a misspelt one is not silently ignored.
    """

    __slots__ = ("_faults", "_keys", "_known", "_parent", "_table")

    def __init__(
        self,
        table: dict[str, Any],
        parent: Source | TableReader,
        faults: list[Fault],
        keys: KeyPath = (),
    ) -> None:
        self._table = table
        self._parent = parent
        self._keys = keys
        self._faults = faults
        self._known: set[str] = set()

    @property
    def source(self) -> Source:
        """Where the table stands."""
        parent = self._parent.source if isinstance(self._parent, TableReader) else self._parent
        return parent.at(*self._keys)

    def fault(self, message: str, *keys: str | int) -> None:
        """Note a mistake at a key of this table."""
        self._faults.append(Fault(source=self.source.at(*keys), message=message))

    def __contains__(self, key: str) -> bool:
        return key in self._table

    @property
    def keys(self) -> frozenset[str]:
        """The keys that the table has."""
        return frozenset(self._table)

    def holds(self, key: str, kind: type) -> bool:
        """Whether the value of a key is of that kind."""
        return isinstance(self._table.get(key), kind)

    def value(self, key: str) -> object:
        """Take a value as it is."""
        self._known.add(key)
        return self._table.get(key)

    def names(self) -> Iterator[str]:
        """Yield all keys, as known ones."""
        for key in self._table:
            self._known.add(key)
            yield key

    def _take(self, key: str, kind: type[Parsed], written: str, required: bool) -> Parsed | None:
        self._known.add(key)
        value = self._table.get(key)
        if value is None:
            if required:
                self.fault(f"{key!r} is missing; write e.g. {key} = {written}")
            return None
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            self.fault(f"{_shown(value)} is not valid here; write e.g. {key} = {written}", key)
            return None
        return value

    def text(self, key: str, example: str, *, required: bool = False) -> str | None:
        """Take a text that is not empty."""
        if not required and key not in self._table:
            self._known.add(key)
            return None
        value = self._take(key, str, f'"{example}"', required)
        if value is not None and not value.strip():
            self.fault(f'it is empty; write e.g. {key} = "{example}"', key)
            return None
        return value

    def integer(self, key: str, example: int) -> int | None:
        """Take a whole number that is not negative."""
        if key not in self._table:
            self._known.add(key)
            return None
        value = self._take(key, int, str(example), required=False)
        if value is not None and not 0 <= value < 1 << 63:
            what = "is negative" if value < 0 else "is too large"
            self.fault(f"{key!r} {what}; write e.g. {key} = {example}", key)
            return None
        return value

    def flag(self, key: str) -> bool:
        """Take true or false; false where it is missing."""
        if key not in self._table:
            self._known.add(key)
            return False
        return self._take(key, bool, "true", required=False) or False

    def texts(self, key: str, example: str) -> tuple[str, ...]:
        """Take a list of texts."""
        if key not in self._table:
            self._known.add(key)
            return ()
        values: list[Any] = self._take(key, list, f'["{example}"]', required=False) or []
        good = []
        for index, value in enumerate(values):
            if isinstance(value, str) and value.strip():
                good.append(value)
            else:
                self.fault(f'{_shown(value)} is not a text; write e.g. "{example}"', key, index)
        return tuple(good)

    def parsed(
        self, key: str, example: str, parse: Callable[[str], Parsed], *, required: bool = False
    ) -> Parsed | None:
        """Take a text and parse it; what ``parse`` raises becomes a fault."""
        value = self.text(key, example, required=required)
        return None if value is None else self.convert(value, parse, key)

    def convert(
        self, value: str, parse: Callable[[str], Parsed], *keys: str | int
    ) -> Parsed | None:
        """Parse a text taken from ``keys``; what ``parse`` raises becomes a fault."""
        try:
            return parse(value)
        except (ValueError, UserError) as error:
            self.fault(str(error), *keys)
            return None

    def table(self, key: str, *, required: bool = False) -> TableReader:
        """Take a table; an empty one where it is missing."""
        self._known.add(key)
        value = self._table.get(key, {})
        if required and key not in self._table:
            self.fault(f"the table [{key}] is missing")
        if not isinstance(value, dict):
            self.fault(f"{_shown(value)} is not a table; write [{key}]", key)
            value = {}
        return TableReader(value, self, self._faults, (key,))

    def tables(self, key: str) -> list[TableReader]:
        """Take an array of tables; empty where it is missing."""
        self._known.add(key)
        if key not in self._table:
            return []
        value = self._table[key]
        if not isinstance(value, list) or not all(isinstance(each, dict) for each in value):
            self.fault(f"{_shown(value)} is not valid here; write [[{key}]]", key)
            return []
        return [
            TableReader(each, self, self._faults, (key, index)) for index, each in enumerate(value)
        ]

    def finish(self) -> None:
        """Note every key that was not taken."""
        for key in self._table.keys() - self._known:
            self.fault(f"unknown key{nearest(key, self._known)}", key)


def _shown(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "…"
