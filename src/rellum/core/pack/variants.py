"""Variants: several set-ups of one game. The one in use is rellum.toml; the others wait in ``variants/``.

``variants/NAME.toml`` and ``variants/NAME.lock`` are the texts of rellum.toml and rellum.lock as they were
when the variant was last in use. *vanilla* is always one, and has no file: it is the pack without any mod.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from rellum.core.errors import UserError
from rellum.core.nearest import nearest
from rellum.core.pack.home import LOCK_FILE, PACK_FILE, PackHome, pack_texts, read_text
from rellum.core.pack.state_change import PackTexts
from rellum.core.pack.variant_name import name_in
from rellum.core.toml_comments import comments_in_place
from rellum.core.values.paths import fault_in_name

if TYPE_CHECKING:
    from rellum.core.pack.lock_file import LockFile

VANILLA = "vanilla"
FOLDER = "variants"
_OF_MODS = ("want", "hold", "graft", "winner", "nested")
"""Tables of rellum.toml that only speak of mods."""


class NoVariant(UserError):
    """A variant is not there, is there already, or is in use."""

    code = "no-variant"


class Variant(NamedTuple):
    """A variant: its name, whether it is in use, and its texts."""

    name: str
    in_use: bool
    pack_text: str
    lock_text: str | None

    @property
    def lock(self) -> LockFile | None:
        """Its line-up; None where none was made yet."""
        from rellum.core.pack.lock_file import read_lock_text

        return read_lock_text(self.lock_text, LOCK_FILE) if self.lock_text else None

    @property
    def texts(self) -> PackTexts:
        """Its texts as a change writes them."""
        lock = () if self.lock_text is None else ((LOCK_FILE, self.lock_text),)
        return ((PACK_FILE, self.pack_text), *lock)


def variants_of(home: PackHome) -> list[Variant]:
    """Return all variants: the one in use first, vanilla last. Raises OSError."""
    now = dict(pack_texts(home))
    current = name_in(now.get(PACK_FILE, ""))
    if not current:
        from rellum.core.pack.pack_file import read_pack_file

        current = read_pack_file(home).variant  # says what is wrong in it
    found = [Variant(current, True, now.get(PACK_FILE, ""), now.get(LOCK_FILE))]
    folder = os.path.join(home.folder, FOLDER)
    names = sorted(os.listdir(folder)) if os.path.isdir(folder) else []
    for each in names:
        name, ending = os.path.splitext(each)
        if ending == ".toml" and name not in (current, VANILLA):
            text = read_text(os.path.join(folder, each)) or ""
            lock = read_text(os.path.join(folder, f"{name}.lock"))
            found.append(Variant(name, False, text, lock))
    if current != VANILLA:
        found.append(Variant(VANILLA, False, "", None))
    return found


def find_variant(variants: list[Variant], name: str) -> Variant:
    """Return a variant by its name. Raises NoVariant."""
    found = next((each for each in variants if each.name == name), None)
    if found is None:
        names = [each.name for each in variants]
        raise NoVariant(
            f"there is no variant {name!r}{nearest(name, names)}",
            hint=f"There are {', '.join(names)}. 'rellum variant new NAME' makes one.",
        )
    if name == VANILLA and not found.in_use:
        return found._replace(pack_text=vanilla_text(variants[0].pack_text))
    return found


def parked(variant: Variant) -> PackTexts:
    """Return the files in which a variant waits while another is in use, by their paths in the pack."""
    lock = () if variant.lock_text is None else ((file_of_lock(variant.name), variant.lock_text),)
    return ((file_of_pack(variant.name), variant.pack_text), *lock)


def exchanged(before: Variant | None, now: str) -> tuple[tuple[str, str | None], ...]:
    """Return the files in which one variant waits from now on, and (None) those in which another waited."""
    gone = ((file_of_pack(now), None), (file_of_lock(now), None))
    return (*(parked(before) if before else ()), *gone)


def parked_by(home: PackHome, becoming: PackTexts) -> tuple[tuple[str, str | None], ...]:
    """Return how the variant in use is parked where these texts are of another; else nothing."""
    try:
        now = variants_of(home)[0]
    except OSError:
        return ()
    name = name_in(dict(becoming).get(PACK_FILE, ""))
    return () if name == now.name else exchanged(now, name)


def file_of_pack(name: str) -> str:
    """Return where a variant's rellum.toml waits, from the pack's folder."""
    return f"{FOLDER}/{name}.toml"


def file_of_lock(name: str) -> str:
    """Return where a variant's rellum.lock waits, from the pack's folder."""
    return f"{FOLDER}/{name}.lock"


def renamed_text(text: str, name: str) -> str:
    """Return a text of rellum.toml that is for a variant of another name. Raises ValueError."""
    import tomlkit

    document = tomlkit.parse(text)
    pack = document.setdefault("pack", tomlkit.table())
    pack["variant"] = name
    return comments_in_place(text, tomlkit.dumps(document))


def vanilla_text(text: str) -> str:
    """Return a text of rellum.toml without anything that speaks of mods. Raises ValueError."""
    import tomlkit

    document = tomlkit.parse(text)
    for table in _OF_MODS:
        if table in document:
            del document[table]
    return renamed_text(tomlkit.dumps(document), VANILLA)


def own_folders(home: PackHome) -> Mapping[str, str]:
    """Return the packs of variants with folders of their own, by name."""
    folder = os.path.join(home.folder, FOLDER)
    names = sorted(os.listdir(folder)) if os.path.isdir(folder) else []
    found = {name: os.path.join(folder, name) for name in names}
    return {name: each for name, each in found.items() if os.path.isfile(PackHome(each).pack_file)}


def refuse_bad_name(name: str, variants: list[Variant]) -> None:
    """Refuse a name for a new variant. Raises NoVariant."""
    from rellum.core.catalog.written_ids import parse_id

    try:
        parse_id(name)
        fault = fault_in_name(name)
    except ValueError as error:
        fault = str(error)
    if fault:
        raise NoVariant(
            f"a variant cannot be called {name!r}: {fault}",
            hint="Use small letters, digits and hyphens, such as 'next-version'.",
        )
    if any(each.name == name for each in variants):
        raise NoVariant(f"there is a variant {name!r} already", hint="Choose another name.")
