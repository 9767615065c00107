"""What of a pack goes into its feed: texts that a player's Rellum reads, and archives that may be shared."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from typing import Final, NamedTuple

from rellum.core.catalog.model import Catalog, Mod
from rellum.core.catalog.release_rules import ReleaseFile
from rellum.core.errors import UserError
from rellum.core.feed.packing import Source
from rellum.core.hashing import hash_bytes
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, TRIALS_FILE, read_text
from rellum.core.pack.lock_file import LockedRelease, LockFile
from rellum.core.pack.session import Session
from rellum.core.shelf.store import Shelf
from rellum.core.toml_comments import comments_in_place
from rellum.core.values.ids import ModId

CATALOG: Final = "catalog"
ARCHIVES: Final = "archives"
MOST_CARDS: Final = 1000
"""Of a larger catalog, a feed has only the cards of its line-up."""
MAY_BE_SHARED: Final = frozenset(
    {
        "0BSD", "AFL-3.0", "AGPL-3.0-only", "AGPL-3.0-or-later", "Apache-2.0", "Artistic-2.0",
        "BSD-2-Clause", "BSD-3-Clause", "BSL-1.0", "CC-BY-3.0", "CC-BY-4.0", "CC-BY-NC-3.0",
        "CC-BY-NC-4.0", "CC-BY-NC-ND-4.0", "CC-BY-NC-SA-4.0", "CC-BY-ND-4.0", "CC-BY-SA-3.0",
        "CC-BY-SA-4.0", "CC0-1.0", "EPL-2.0", "EUPL-1.2", "GPL-2.0-only", "GPL-2.0-or-later",
        "GPL-3.0-only", "GPL-3.0-or-later", "ISC", "LGPL-2.1-only", "LGPL-2.1-or-later",
        "LGPL-3.0-only", "LGPL-3.0-or-later", "MIT", "MIT-0", "MPL-2.0", "MS-PL", "OFL-1.1",
        "Unlicense", "WTFPL", "Zlib",
    }
)  # fmt: skip
"""Licences (SPDX) under which anybody may hand on an unchanged archive for nothing."""


class CannotPublish(UserError):
    """The pack cannot be published as it is."""

    code = "cannot-publish"


class OnlyNamed(NamedTuple):
    """An archive that the feed only names: whose it is, and why. ``can_be_had``: its card says where."""

    mod: ModId
    file: str
    why: str
    can_be_had: bool


class FeedContent(NamedTuple):
    """All that goes into a version, and the archives that are only named in it."""

    sources: tuple[Source, ...]
    only_named: tuple[OnlyNamed, ...]


def content_of_pack(opened: Session, shelf: Shelf, lock: LockFile, work: str) -> FeedContent:
    """Gather what is published. Texts are written into ``work``. Raises CannotPublish, OSError."""
    catalog = opened.files.catalog
    texts = _Texts(work)
    texts.add(f"pack/{PACK_FILE}", _pack_text(read_text(opened.home.pack_file) or ""))
    texts.add(f"pack/{LOCK_FILE}", read_text(opened.home.lock_file) or "")
    if (trials := read_text(opened.home.trials_file)) is not None:
        texts.add(f"pack/{TRIALS_FILE}", trials)
    for path, text in _catalog_texts(catalog, [each.mod for each in lock.releases]):
        texts.add(f"{CATALOG}/{path}", text)
    archives: dict[str, Source] = {}
    only_named: list[OnlyNamed] = []
    shared = frozenset(opened.files.pack.shared)
    own = os.path.join(opened.home.own_catalog, "")
    for release in lock.releases:
        mod = catalog.mods.get(release.mod)
        is_own = bool(mod) and mod is not None and mod.source.file.startswith(own)
        why = "" if is_own else why_not(mod.licence if mod else None, release.mod in shared)
        for file in release.files:
            entry = shelf.find(file)
            if why or entry is None:
                reason = why or "it is not on the shelf"
                only_named.append(OnlyNamed(release.mod, file.name, reason, _can_be_had(file, mod)))
                continue
            path = f"{ARCHIVES}/{entry.digest}/{file.name}"
            archives[path] = Source(path, entry.size, entry.digest, shelf.path_of(entry.digest))
    return FeedContent((*texts.sources, *archives.values()), tuple(only_named))


def why_not(licence: str | None, is_allowed: bool) -> str:
    """Say why an archive may not be handed on; an empty text where it may."""
    if is_allowed:
        return ""
    if not licence:
        return "its card names no licence"
    return "" if _is_free(licence) else f"its licence ({licence}) is not known to allow it"


@lru_cache(maxsize=1000)
def _is_free(licence: str) -> bool:
    """Whether an SPDX expression lets everybody hand the archive on."""
    if licence in MAY_BE_SHARED:
        return True
    from license_expression import AND, OR, ExpressionError, get_spdx_licensing

    try:
        parsed = get_spdx_licensing().parse(licence, validate=False)
    except ExpressionError:
        return False

    def is_free(node: object) -> bool:
        if isinstance(node, OR):
            return any(map(is_free, node.args))
        if isinstance(node, AND):
            return all(map(is_free, node.args))
        key = getattr(getattr(node, "license_symbol", node), "key", "")
        return key in MAY_BE_SHARED

    return parsed is not None and is_free(parsed)


def _can_be_had(file: ReleaseFile, mod: Mod | None) -> bool:
    """Whether a card says where a person or a program gets an archive."""
    releases = mod.releases if mod else ()
    said = [each for one in releases for each in one.all_files if each.name == file.name]
    return any(
        each.page or each.by_hand or any(not url.startswith("file:") for url in each.urls)
        for each in said
    )


class _Texts:
    """Texts of a feed, each written into a file of its own."""

    def __init__(self, folder: str) -> None:
        self._folder = folder
        self.sources: list[Source] = []

    def add(self, path: str, text: str) -> None:
        content = text.encode("utf-8", "surrogateescape")
        file = os.path.join(self._folder, f"text-{len(self.sources)}")
        with open(file, "wb") as stream:
            stream.write(content)
        self.sources.append(Source(path, len(content), hash_bytes(content), file))


def _pack_text(text: str) -> str:
    """Return rellum.toml without what is only true on the curator's machine."""
    import tomlkit

    document = tomlkit.parse(text)
    pack = document.get("pack", {})
    pack.pop("sources", None)
    document.setdefault("pack", tomlkit.table())["catalogs"] = [f"feed/{CATALOG}"]
    for key in ("folder", "places", "version", "edition", "expansions"):
        document.get("game", {}).pop(key, None)
    for key in ("feed", "share", "limits"):
        document.pop(key, None)
    return comments_in_place(text, tomlkit.dumps(document))


def _catalog_texts(catalog: Catalog, mods: Sequence[ModId]) -> Iterator[tuple[str, str]]:
    """Yield the sheet, the baselines that it names, all trials, and the cards of these mods.

    The other cards come along unless they are very many: players may want mods of their own.
    """
    sheet = catalog.sheet
    yield f"games/{os.path.basename(sheet.source.file)}", _text_of(sheet.source.file)
    folder = os.path.dirname(os.path.dirname(sheet.source.file))
    for baseline in sheet.baselines:
        path = os.path.relpath(baseline.file, folder).replace(os.sep, "/")
        if path.startswith("../"):
            raise CannotPublish(
                f"the sheet names {baseline.file}, which is not in its catalog",
                hint="Put the file of sums into the catalog's folder 'baselines'.",
            )
        if os.path.exists(baseline.file):
            yield path, _text_of(baseline.file)
    others = catalog.mods.keys() - set(mods) if len(catalog.mods) <= MOST_CARDS else set()
    for mod in (*mods, *sorted(others)):
        known = catalog.mods.get(mod)
        if known is None:
            raise CannotPublish(
                f"no catalog of the pack has the card of {mod}", hint="'rellum resolve' first."
            )
        yield f"cards/{mod}.toml", _text_of(known.source.file)
    trials = [os.path.join(each, TRIALS_FILE) for each in catalog.folders]
    found = [_text_of(each) for each in trials if os.path.exists(each)]
    if found:
        yield TRIALS_FILE, "\n".join(found)


def _text_of(file: str) -> str:
    with open(file, encoding="utf-8", errors="surrogateescape", newline="") as stream:
        return stream.read()


def unobtainable(content: FeedContent, needed: Iterable[LockedRelease]) -> list[OnlyNamed]:
    """Return the archives of a line-up that no player could get."""
    mods = {each.mod for each in needed}
    return [each for each in content.only_named if not each.can_be_had and each.mod in mods]
