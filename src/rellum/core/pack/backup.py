"""What a backup is, and which need not stay; ``backups`` keeps them."""

import time
from collections.abc import Sequence
from typing import NamedTuple

from rellum.core.errors import UserError
from rellum.core.values.ids import ReleaseName
from rellum.core.values.paths import PlacePath

KEPT_LAST = 20
"""So many of the newest backups stay, whatever they are."""

KEPT_DAILY = 30
"""Days for which the last backup of each day stays."""

KEPT_MONTHLY = 24
"""Months for which the last backup of each month stays; 30 days each."""

_DAY = 24 * 3600

_LATEST_NS = (1 << 63) - 1
"""The latest time that SQLite holds, in the year 2262; file systems know later ones."""


class BackupFault(UserError):
    """The store of backups is damaged, or lacks what is asked for."""

    code = "backup-fault"


class Backup(NamedTuple):
    """A backup. ``reason`` is what it was made before, empty where somebody asked for it.

    ``made_at`` is RFC 3339 in UTC; ``game`` the game's version; ``releases`` what was laid, as texts;
    ``files`` and ``bytes`` count all that it has, ``changed`` the files that came or changed with it.
    """

    number: int
    name: str
    made_at: str
    reason: str
    variant: str
    game: str
    releases: tuple[str, ...]
    files: int
    bytes: int
    changed: int


class Circumstances(NamedTuple):
    """What is noted of a new backup beside its files."""

    reason: str
    variant: str
    game: str
    releases: tuple[str, ...]


class SeenFile(NamedTuple):
    """A file of the player's as it stands: where it lies, and what tells whether it changed (bytes, ns)."""

    file: str
    size: int
    mode: int
    mtime_ns: int
    ctime_ns: int

    def storable(self) -> "SeenFile":
        """Return the same with times that a database can hold."""
        return self._replace(
            mtime_ns=storable_ns(self.mtime_ns), ctime_ns=storable_ns(self.ctime_ns)
        )


class Made(NamedTuple):
    """What came of making a backup: its number, and the files that changed, went, or were being written.

    ``is_new``: nothing was as the newest backup has it; else ``number`` is that one.
    """

    number: int
    is_new: bool
    changed: tuple[PlacePath, ...] = ()
    gone: tuple[PlacePath, ...] = ()
    in_use: tuple[PlacePath, ...] = ()


def storable_ns(time_ns: int) -> int:
    """Return a time in ns since 1970, or the nearest that a database can hold."""
    return max(-_LATEST_NS, min(time_ns, _LATEST_NS))


def superfluous(rows: Sequence[tuple[int, str, int]], now: float) -> list[int]:
    """Return the backups that need not stay. ``rows``: number, time (RFC 3339), has a name; newest first."""
    first_day = time.strftime("%Y-%m-%d", time.gmtime(now - KEPT_DAILY * _DAY))
    first_month = time.strftime("%Y-%m", time.gmtime(now - KEPT_MONTHLY * 30 * _DAY))
    days = {made_at[:10] for _, made_at, _ in rows[:KEPT_LAST]}
    months = {made_at[:7] for _, made_at, _ in rows[:KEPT_LAST]}
    gone = []
    for number, made_at, has_name in rows[KEPT_LAST:]:
        day, month = made_at[:10], made_at[:7]
        stays = (day >= first_day and day not in days) or (
            month >= first_month and month not in months
        )
        if not stays and not has_name:
            gone.append(number)
        days.add(day)
        months.add(month)
    return gone


def release_label(release: ReleaseName) -> str:
    """Return how a backup names a release that was in the game when it was made."""
    return f"{release} ({release.build})" if release.build else str(release)
