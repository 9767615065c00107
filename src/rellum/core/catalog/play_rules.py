"""How a game, or a program that a release brings for it, is started; and how its log is read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import partial

from rellum.core.catalog.release_rules import Source
from rellum.core.catalog.tables import TableReader
from rellum.core.values.paths import PlacePath, is_in_game, parse_place_path

Places = Mapping[str, PlacePath]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayRule:
    """A program to start: its file, arguments, working folder and environment.

    ``folder`` None: the folder that the program lies in. ``options`` are the options of the release with
    which it is the one to start.
    """

    program: PlacePath
    arguments: tuple[str, ...] = ()
    folder: PlacePath | None = None
    environment: tuple[tuple[str, str], ...] = ()
    options: tuple[tuple[str, tuple[str, ...]], ...] = ()
    source: Source


@dataclass(frozen=True, slots=True, kw_only=True)
class LogRules:
    """How the log of a game tells what happened, in patterns that are tried line by line.

    ``file`` None: what the program prints. ``works`` and ``breaks`` tell how the start went; ``loaded`` and
    ``failed`` name a mod in the group ``mod``, and perhaps its version in the group ``version``.
    """

    file: PlacePath | None = None
    works: str = ""
    breaks: str = ""
    loaded: str = ""
    failed: str = ""
    source: Source = field(default_factory=lambda: Source(file=""))


@dataclass(frozen=True, slots=True, kw_only=True)
class BreaksSaves:
    """A release does not open saves that were made with older releases of the mod in the range ``of``.

    ``back``: saves that it makes can be opened by these.
    """

    of: str
    back: bool = False


def read_play(reader: TableReader, places: Places) -> PlayRule | None:
    """Read ``[play]`` of a sheet, or ``[[release.play]]``, without what belongs to the log."""
    program = reader.parsed(
        "program", "@game/start.bin", partial(parse_place_path, places=places), required=True
    )
    if program is not None and not is_in_game(program):
        reader.fault("the program lies in the game folder", "program")
    arguments = reader.texts("arguments", "--skip-intro")
    folder = reader.parsed("folder", "@game", partial(_parse_folder, places=places))
    table = reader.table("environment")
    environment = tuple((name, table.text(name, "full") or "") for name in table.names())
    table = reader.table("options")
    options = tuple((group, table.texts(group, "high")) for group in table.names())
    if program is None:
        return None
    return PlayRule(
        program=program,
        arguments=arguments,
        folder=folder,
        environment=environment,
        options=options,
        source=reader.source,
    )


NO_LOG = LogRules()
"""Of a game whose sheet says nothing of a log."""


def _parse_folder(text: str, places: Places) -> PlacePath:
    if text.rstrip("/") == "@game":
        return PlacePath("@game")
    return parse_place_path(text.rstrip("/"), places)


def read_log_rules(reader: TableReader, places: Places) -> LogRules:
    """Read what ``[play]`` of a sheet says of the game's log."""
    file = reader.parsed("log", "@game/logs/last.log", partial(parse_place_path, places=places))
    found = {
        key: reader.parsed(key, example, checked_pattern) or ""
        for key, example in (
            ("works", "^ready"),
            ("breaks", "^FAILED"),
            ("loaded", r"^mod +(?P<mod>\S+) (?P<version>\S+)$"),
            ("failed", r"^FAILED +(?P<mod>\S+)"),
        )
    }
    for key in ("loaded", "failed"):
        if found[key] and "(?P<mod>" not in found[key]:
            reader.fault("the pattern has no group named 'mod'", key)
    return LogRules(file=file, source=reader.source, **found)


def checked_pattern(text: str) -> str:
    """Return a regular expression as it is. Raises ValueError where it is none."""
    import regex

    try:
        regex.compile(text)
    except regex.error as error:
        raise ValueError(f"the pattern is wrong: {error}") from error
    return text
