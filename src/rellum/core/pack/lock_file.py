"""``rellum.lock``: the line-up. The same choice always gives the same bytes, one thing a line."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Sequence
from typing import Any

from rellum.core.catalog.release_rules import ReleaseFile, Source
from rellum.core.catalog.tables import Fault, TableReader, fault_lines, parse_toml, raise_faults
from rellum.core.catalog.written_ids import parse_digest, parse_id
from rellum.core.durable import write_durably
from rellum.core.errors import UserError
from rellum.core.pack.home import PackHome
from rellum.core.pack.locked_release import LockedGraft
from rellum.core.pack.locked_release import LockedRelease as LockedRelease
from rellum.core.pack.locked_release import LockFile as LockFile
from rellum.core.pack.remembered_lock import mark_of_lock, recall_lock, remember_lock
from rellum.core.values.ids import ModId, SheetId
from rellum.core.values.paths import shown_file
from rellum.core.versions.orderings import parse_version

FORMAT = 1
_MANY = 100
"""From so many releases on it pays to read them at once."""
_PLAIN = re.compile(r"[A-Za-z0-9 ._:,()+-]*")
"""A text that is written as it is; nearly all are."""


class NoLineUp(UserError):
    """There is no line-up yet, or it does not fit the game."""

    code = "no-line-up"


def lock_text(lock: LockFile) -> str:
    """Return the file's text."""
    lines = [
        "# The line-up, written by 'rellum resolve'. Releases stand in load order.",
        f"format = {FORMAT}",
        f"asked = {_quoted(lock.asked)}",
        "",
        "[game]",
        f"sheet = {_quoted(lock.sheet)}",
        f"version = {_quoted(lock.game_version.text)}",
    ]
    if lock.edition:
        lines.append(f"edition = {_quoted(lock.edition)}")
    lines.append(f"expansions = {_list(lock.expansions)}")
    for release in lock.releases:
        lines += ["", "[[release]]", f"mod = {_quoted(release.mod)}"]
        lines.append(f"version = {_quoted(release.version)}")
        if release.build:
            lines.append(f"build = {_quoted(release.build)}")
        if release.because:
            lines.append(f"needed-by = {_list(release.because)}")
        if release.trial:
            lines.append(f"rests-on = {_quoted(release.trial)}")
        if release.check_by_hand:
            lines.append(f"check-by-hand = {_list(release.check_by_hand)}")
        for group, chosen in release.options:
            lines.append(f"options.{group} = {_list(chosen)}")
        for file in release.files:
            lines += ["", "  [[release.file]]", f"  name = {_quoted(file.name)}"]
            if file.size is not None:
                lines.append(f"  size = {file.size}")
            if file.sha256:
                lines.append(f"  sha256 = {_quoted(file.sha256)}")
            if file.blake3:
                lines.append(f"  blake3 = {_quoted(file.blake3)}")
    for graft in lock.grafts:
        lines += ["", "[[graft]]", f"name = {_quoted(graft.mod)}", f"slot = {_quoted(graft.slot)}"]
        lines.append(f"said = {_quoted(graft.said)}")
    return "\n".join(lines) + "\n"


def write_lock(home: PackHome, lock: LockFile) -> bool:
    """Write ``rellum.lock`` durably if it changes; say whether it did. Raises OSError."""
    content = lock_text(lock).encode("utf-8")
    try:
        with open(home.lock_file, "rb") as file:
            if file.read() == content:
                return False
    except FileNotFoundError:
        pass
    write_durably(home.lock_file, content)
    return True


def read_lock(home: PackHome) -> LockFile:
    """Read ``rellum.lock``. Raises NoLineUp where there is none, FileFaults."""
    file = home.lock_file
    if not os.path.exists(file):
        raise NoLineUp(
            f"the pack {home.folder} has no line-up yet", hint="Make one with 'rellum resolve'."
        )
    remembered = recall_lock(home)
    if remembered is not None:
        return remembered
    mark = mark_of_lock(home)
    table, syntax_fault = parse_toml(file)
    raise_faults([syntax_fault] if table is None else [], shown_file(file))
    lock = _read(table or {}, file)
    if len(lock.releases) > _MANY and not home.texts_folder:
        remember_lock(home, mark, lock)
    return lock


def read_lock_text(text: str, file: str) -> LockFile | None:
    """Read the text of a line-up that stood in ``file`` once; None where it cannot be read."""
    import tomli

    try:
        return _read(tomli.loads(text), file)
    except (ValueError, UserError):
        return None


def _read(table: dict[str, Any], file: str) -> LockFile:
    faults: list[Fault] = []
    root = TableReader(table, Source(file=file), faults)
    if root.integer("format", FORMAT) != FORMAT:
        root.fault(f"this Rellum reads format {FORMAT}; resolve again", "format")
    asked = root.text("asked", "a hash") or ""
    game = root.table("game", required=True)
    sheet = game.parsed("sheet", "fathomline", parse_id, required=True)
    version = game.parsed("version", "1.6.0", parse_version, required=True)
    edition = game.text("edition", "boxed")
    expansions = game.texts("expansions", "ice-charts")
    game.finish()
    releases = _read_releases(root, table.get("release"), file)
    grafts = tuple(graft for each in root.tables("graft") if (graft := _read_graft(each)))
    root.finish()
    raise_faults(fault_lines(faults), shown_file(file))
    assert sheet is not None and version is not None  # else there were faults
    return LockFile(
        asked=asked,
        sheet=SheetId(sheet),
        game_version=version,
        edition=edition,
        expansions=expansions,
        releases=releases,
        grafts=grafts,
    )


def _read_releases(root: TableReader, tables: Any, file: str) -> tuple[LockedRelease, ...]:
    readers = root.tables("release")
    if len(readers) > _MANY:
        from rellum.core.pack.plain_lock import read_plain

        found = read_plain(tables, file)
        if found is not None:
            return found
    return tuple(release for each in readers if (release := _read_release(each)) is not None)


def _read_release(reader: TableReader) -> LockedRelease | None:
    mod = reader.parsed("mod", "tidal-currents", parse_id, required=True)
    version = reader.text("version", "3.2", required=True)
    build = reader.text("build", "harbour") or ""
    because = reader.texts("needed-by", "tidal-currents")
    trial = reader.text("rests-on", "works on game 1.7.0") or ""
    check_by_hand = reader.texts("check-by-hand", "needs 8 GB of memory")
    table = reader.table("options")
    options = tuple((group, table.texts(group, "high")) for group in table.names())
    files = []
    for each in reader.tables("file"):
        name = each.text("name", "tidal.zip", required=True)
        files.append(
            ReleaseFile(
                name=name or "",
                size=each.integer("size", 48211),
                sha256=each.parsed("sha256", "64 hexadecimal digits", parse_digest),
                blake3=each.parsed("blake3", "64 hexadecimal digits", parse_digest),
                urls=(),
                by_hand="",
            )
        )
        each.finish()
    reader.finish()
    if mod is None or version is None:
        return None
    return LockedRelease(
        mod=ModId(mod),
        version=version,
        build=build,
        options=options,
        trial=trial,
        because=tuple(ModId(each) for each in because),
        files=tuple(files),
        source=reader.source,
        check_by_hand=check_by_hand,
    )


def _read_graft(reader: TableReader) -> LockedGraft | None:
    name = reader.parsed("name", "strait-as-shelf", parse_id, required=True)
    slot = reader.text("slot", "@maps/north-shelf/", required=True)
    said = reader.text("said", "16 hexadecimal digits", required=True)
    reader.finish()
    if name is None or slot is None or said is None:
        return None
    return LockedGraft(mod=ModId(name), slot=slot, said=said)


def _quoted(text: str) -> str:
    if _PLAIN.fullmatch(text):
        return f'"{text}"'
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _list(values: Sequence[str]) -> str:
    return "[" + ", ".join(map(_quoted, values)) + "]"
