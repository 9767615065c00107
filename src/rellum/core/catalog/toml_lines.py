"""Find the line of a key in a TOML file.

The standard reader gives values without positions. This scanner is run only when a message needs
a line, and only over text that the standard reader has accepted (TOML 1.0), so it can be lenient:
it follows headers, keys, strings, arrays and inline tables, and nothing else.
"""

from __future__ import annotations

import re
from functools import lru_cache

from rellum.core.catalog.release_rules import KeyPath, Source
from rellum.core.values.paths import shown_file

_BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")
_BLANKS = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_SPACES = re.compile(r"[ \t]*")
_SCALAR = re.compile(r"[^,\]\}\n#]*")


def line_of(source: Source) -> int:
    """Return the line, from 1, on which the statement stands, or its nearest parent's."""
    lines = _lines_of_file(source.file)
    key = source.key
    while key and key not in lines:
        key = key[:-1]
    return lines.get(key, 1)


def place_of(source: Source) -> str:
    """Return ``file:line`` of a statement, as messages show it."""
    return f"{shown_file(source.file)}:{line_of(source)}"


@lru_cache(maxsize=64)
def _lines_of_file(file: str) -> dict[KeyPath, int]:
    try:
        with open(file, encoding="utf-8") as stream:
            return key_lines(stream.read())
    except (OSError, UnicodeDecodeError):
        return {}


def forget_lines() -> None:
    """Forget the lines of files that were read: one of them was written."""
    _lines_of_file.cache_clear()


def key_lines(text: str) -> dict[KeyPath, int]:
    """Return the line of every key path in a valid TOML text; arrays count from 0."""
    return _Scanner(text).run()


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.lines: dict[KeyPath, int] = {}
        self.array_sizes: dict[KeyPath, int] = {}

    def run(self) -> dict[KeyPath, int]:
        table: KeyPath = ()
        while True:
            self._skip(_BLANKS)
            if self.at >= len(self.text):
                return self.lines
            start = self.at
            if self.text.startswith("[[", self.at):
                self.at += 2
                table = self._header(grow=True)
            elif self.text[self.at] == "[":
                self.at += 1
                table = self._header(grow=False)
            else:
                self._pair(table)
            if self.at == start:  # not TOML after all: no endless loop
                return self.lines

    def _header(self, *, grow: bool) -> KeyPath:
        line = self._line()
        names = self._key()
        path: KeyPath = ()
        for position, name in enumerate(names):
            path = (*path, name)
            self.lines.setdefault(path, line)
            if grow and position == len(names) - 1:
                self.array_sizes[path] = self.array_sizes.get(path, 0) + 1
            if path in self.array_sizes:
                path = (*path, self.array_sizes[path] - 1)
        self.lines.setdefault(path, line)
        end = self.text.find("\n", self.at)
        self.at = len(self.text) if end < 0 else end
        return path

    def _pair(self, table: KeyPath) -> None:
        line = self._line()
        path = table
        for name in self._key():
            path = (*path, name)
            self.lines.setdefault(path, line)
        self._skip(_SPACES)
        if self.text.startswith("=", self.at):
            self.at += 1
        self._skip(_SPACES)
        self._value(path)

    def _key(self) -> list[str]:
        names = []
        while True:
            self._skip(_SPACES)
            if self.text[self.at : self.at + 1] in ("'", '"'):
                start = self.at
                self._string()
                names.append(self.text[start + 1 : self.at - 1])
            elif match := _BARE_KEY.match(self.text, self.at):
                names.append(match.group())
                self.at = match.end()
            self._skip(_SPACES)
            if not self.text.startswith(".", self.at):
                return names
            self.at += 1

    def _value(self, path: KeyPath) -> None:
        sign = self.text[self.at : self.at + 1]
        if sign in ("'", '"'):
            self._string()
        elif sign == "[":
            self._array(path)
        elif sign == "{":
            self._inline_table(path)
        else:
            self._skip(_SCALAR)

    def _array(self, path: KeyPath) -> None:
        self.at += 1
        index = 0
        while self.at < len(self.text):
            self._skip(_BLANKS)
            if self.text.startswith("]", self.at):
                self.at += 1
                return
            self.lines[(*path, index)] = self._line()
            start = self.at
            self._value((*path, index))
            index += 1
            self._skip(_BLANKS)
            if self.text.startswith(",", self.at):
                self.at += 1
            elif self.at == start:
                return

    def _inline_table(self, path: KeyPath) -> None:
        self.at += 1
        while self.at < len(self.text):
            self._skip(_BLANKS)
            if self.text.startswith("}", self.at):
                self.at += 1
                return
            start = self.at
            self._pair(path)
            self._skip(_BLANKS)
            if self.text.startswith(",", self.at):
                self.at += 1
            elif self.at == start:
                return

    def _string(self) -> None:
        quote = self.text[self.at]
        if self.text.startswith(quote * 3, self.at):
            self._long_string(quote)
            return
        self.at += 1
        while self.at < len(self.text) and self.text[self.at] != quote:
            self.at += 2 if quote == '"' and self.text[self.at] == "\\" else 1
        self.at += 1

    def _long_string(self, quote: str) -> None:
        self.at += 3
        while self.at < len(self.text) and not self.text.startswith(quote * 3, self.at):
            self.at += 2 if quote == '"' and self.text[self.at] == "\\" else 1
        self.at += 3
        while self.text.startswith(quote, self.at):  # up to two quotes may stand before the end
            self.at += 1

    def _skip(self, pattern: re.Pattern[str]) -> None:
        match = pattern.match(self.text, self.at)
        if match:
            self.at = match.end()

    def _line(self) -> int:
        return self.text.count("\n", 0, self.at) + 1
