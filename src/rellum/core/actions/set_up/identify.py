"""Identify: what a folder is, by the sheet's rules and by known vanilla files."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import dataclass

from rellum.core.actions.set_up.adopt import choose_sheet, no_folder
from rellum.core.catalog.known import KnownBaseline
from rellum.core.catalog.load import load_sheets
from rellum.core.catalog.model import GameSheet
from rellum.core.change.request import Request
from rellum.core.durable import write_durably
from rellum.core.errors import UserError
from rellum.core.folder.baselines import FolderHashes, Match, best, compare, sums_text
from rellum.core.folder.detection import UnknownGame, identify_now
from rellum.core.folder.identity import Identity
from rellum.core.folder.listing import list_folder
from rellum.core.pack.catalogs import find_catalogs
from rellum.core.pack.home import PackHome
from rellum.core.pack.marker import MARKER_PATH
from rellum.core.pack.pack_file import read_pack_file
from rellum.core.progress import Listener, silent
from rellum.core.values.paths import PlacePath, Roots


class NotVanilla(UserError):
    """A folder is no vanilla game, and cannot be a baseline."""

    code = "not-vanilla"


@dataclass(frozen=True, slots=True, kw_only=True)
class Identified:
    """What a folder was found to be.

    ``identity`` is what the sheet's rules say, None where no version rule holds; ``matches`` compare the
    folder with every known baseline, the nearest first.
    """

    folder: str
    sheet: GameSheet
    identity: Identity | None
    matches: tuple[Match, ...]
    files: int
    bytes: int

    @property
    def nearest(self) -> Match | None:
        """The known baseline that the folder is nearest to, where anything of it matches."""
        found = best(self.matches)
        return found if found and found.matching else None


def identify_folder(
    request: Request, folder: str, *, catalogs: tuple[str, ...] = (), sheet_id: str = ""
) -> Identified:
    """Say what a folder is; nothing is changed. Raises UnknownGame, NoCatalog, SumsFault, OSError."""
    roots = Roots(folder)
    if lack := no_folder(roots.game_folder):
        raise UnknownGame(lack, hint="Name the folder of a game.")
    sheet = sheet_for(request.pack_folder, folder, catalogs, sheet_id)
    files = vanilla_files(folder, sheet)
    hashes = FolderHashes(roots, request.listen)
    matches = [compare(known, files, hashes) for known in sheet.baselines]
    matches.sort(key=lambda match: match.matching - len(match.differing) - len(match.missing))
    return Identified(
        folder=roots.game_folder,
        sheet=sheet,
        identity=identify_now(sheet, roots),
        matches=tuple(reversed(matches)),
        files=len(files),
        bytes=sum(size for _, size in files),
    )


def sheet_for(pack_folder: str, folder: str, catalogs: tuple[str, ...], sheet_id: str) -> GameSheet:
    """Return the sheet of the game in a folder. Raises UnknownGame, NoCatalog, FileFaults."""
    home = PackHome(os.path.abspath(pack_folder))
    pack = read_pack_file(home) if os.path.exists(home.pack_file) else None
    sheets = load_sheets(find_catalogs(home, catalogs, pack))
    return choose_sheet(sheets, sheet_id or (str(pack.sheet or "") if pack else ""), Roots(folder))


def vanilla_files(folder: str, sheet: GameSheet) -> list[tuple[PlacePath, int]]:
    """Return the files of a game folder with their size, without what the game or the player writes."""
    is_own = sheet.path_rules.test((*sheet.own_files, *sheet.players_own))
    return [
        (PlacePath(each.path), each.size)
        for each in list_folder(os.path.abspath(folder))
        if each.kind == "file" and not is_own(each.path)
    ]


def write_baseline(found: Identified, listen: Listener = silent) -> tuple[str, bool]:
    """Write a folder's hashes as a known baseline, and name it in the game sheet.

    Returns the file of sums, and whether the sheet had to be told of it. Raises NotVanilla, OSError.
    """
    roots = Roots(found.folder)
    identity = found.identity
    if identity is None:
        raise NotVanilla(
            f"cannot tell the version of {found.folder}",
            hint="Add a [[version]] rule for it to the game sheet.",
        )
    if os.path.exists(roots.absolute(MARKER_PATH)):
        raise NotVanilla(
            f"{found.folder} is kept by a pack, and may hold mods",
            hint="Run 'rellum restore --all' there first, or name another copy.",
        )
    sums = FolderHashes(roots, listen).of("blake3", vanilla_files(found.folder, found.sheet))
    known = _known(found.sheet, identity)
    sheet_file = found.sheet.source.file
    words = (
        str(identity.sheet),
        identity.version.text,
        identity.edition or "",
        *identity.expansions,
    )
    name = "-".join(filter(None, words)) + ".blake3"
    file = os.path.join(os.path.dirname(os.path.dirname(sheet_file)), "baselines", name)
    if known and known.form == "blake3":
        file = known.file
    os.makedirs(os.path.dirname(file), exist_ok=True)
    write_durably(file, sums_text(sums).encode("utf-8"))
    if known and known.form == "blake3":
        return file, False
    with open(sheet_file, "rb") as stream:
        text = stream.read()
    table = _table(identity, os.path.relpath(file, os.path.dirname(sheet_file)))
    write_durably(sheet_file, text.rstrip(b"\n") + b"\n\n" + table.encode("utf-8"))
    return file, True


def _known(sheet: GameSheet, identity: Identity) -> KnownBaseline | None:
    asked = (identity.version, identity.edition, identity.expansions)
    return next((k for k in sheet.baselines if (k.version, k.edition, k.expansions) == asked), None)


def _table(identity: Identity, file: str) -> str:
    lines = ["[[baseline]]", f"version = {json.dumps(identity.version.text)}"]
    if identity.edition:
        lines.append(f"edition = {json.dumps(identity.edition)}")
    if identity.expansions:
        lines.append(f"expansions = {_list(identity.expansions)}")
    lines.append(f"blake3 = {json.dumps(file.replace(os.sep, '/'), ensure_ascii=False)}")
    return "\n".join(lines) + "\n"


def _list(texts: Sequence[str]) -> str:
    return "[" + ", ".join(map(json.dumps, texts)) + "]"
