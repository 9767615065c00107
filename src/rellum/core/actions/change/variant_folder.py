"""A variant in a folder of its own: a copy of the vanilla game, kept by a small pack below ``variants/``."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass

from rellum.core.actions.set_up.adopt import adopt
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.durable import write_durably
from rellum.core.pack.copying import UNFINISHED, CannotCopy, copy_file, refuse_without_room
from rellum.core.pack.home import PackHome
from rellum.core.pack.session import Session
from rellum.core.pack.variants import (
    FOLDER,
    NoVariant,
    Variant,
    find_variant,
    refuse_bad_name,
    renamed_text,
    variants_of,
)
from rellum.core.progress import Listener, Progress
from rellum.core.toml_comments import comments_in_place
from rellum.core.values.paths import PlacePath, Roots, is_inside, shown


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnFolder:
    """A variant with a game folder of its own: the pack that keeps it, and that folder."""

    name: str
    pack_folder: str
    game_folder: str
    files: int


def new_in_folder(request: Request, name: str, folder: str, like: str = "") -> OwnFolder:
    """Make a variant in a folder of its own: vanilla is copied there, by shared blocks where that can be.

    Hard links are never used: a game that writes into a file would write into both. Raises NoVariant,
    CannotCopy, and what adopting can raise.
    """
    target = os.path.abspath(folder)
    with open_pack(request) as opened:
        opened.state.refuse_unfit()
        variants = variants_of(opened.home)
        refuse_bad_name(name, variants)
        home = PackHome(os.path.join(opened.home.folder, FOLDER, name))
        if os.path.exists(home.folder):
            raise NoVariant(f"{home.folder} is there already", hint="Choose another name.")
        for there in (opened.home.state_folder, opened.roots.game_folder):
            if is_inside(target, there) or is_inside(there, target):
                raise CannotCopy(
                    f"{target} and {there} contain one another", hint="Name another folder."
                )
        model = find_variant(variants, like) if like else variants[0]
        text = _pack_text(opened, model, name, target)
        files = _copy_vanilla(opened, target, request.listen)
    os.makedirs(home.folder)
    write_durably(home.pack_file, text.encode("utf-8", "surrogateescape"))
    if model.lock_text is not None:
        write_durably(home.lock_file, model.lock_text.encode("utf-8", "surrogateescape"))
    try:
        adopt(Request(pack_folder=home.folder, shelf_folder=request.shelf_folder), target)
    except BaseException:
        shutil.rmtree(home.folder, ignore_errors=True)
        shutil.rmtree(target, ignore_errors=True)
        raise
    return OwnFolder(name=name, pack_folder=home.folder, game_folder=target, files=files)


def _pack_text(opened: Session, model: Variant, name: str, target: str) -> str:
    """Return rellum.toml for the pack of the copy; folders that it names are absolute."""
    import tomlkit

    text = renamed_text(model.pack_text, name)
    document = tomlkit.parse(text)
    base = opened.home.folder

    def absolute(text: object) -> str:
        return os.path.normpath(os.path.join(base, str(text))).replace(os.sep, "/")

    pack, game = document["pack"], document.setdefault("game", tomlkit.table())
    pack["catalogs"] = [absolute(each) for each in opened.files.pack.catalogs]
    if "sources" in pack:
        pack["sources"] = [absolute(each) for each in opened.files.pack.sources]
    game["folder"] = target.replace(os.sep, "/")
    for place, where in game.get("places", {}).items():
        game["places"][place] = absolute(where)
    for graft in document.get("graft", []):
        graft["donor"] = absolute(graft["donor"])
    return comments_in_place(text, tomlkit.dumps(document))


def _copy_vanilla(opened: Session, target: str, listen: Listener) -> int:
    """Copy the vanilla game, what lies under mods out of the store of originals. Raises CannotCopy."""
    if os.path.lexists(target) and (not os.path.isdir(target) or os.listdir(target)):
        raise CannotCopy(f"{target} already exists and is not empty", hint="Name a new folder.")
    state, roots = opened.state, opened.roots
    unfinished = target + UNFINISHED
    there = Roots(unfinished)
    laid = state.laid()
    count = 0
    try:
        shutil.rmtree(unfinished, ignore_errors=True)
        os.makedirs(unfinished)
        rows = list(state.baseline_rows())
        files = [(PlacePath(path), size) for path, kind, size, *_ in rows if kind == "file"]
        here = (roots.absolute(path) for path, _ in files if path not in laid)
        refuse_without_room(unfinished, [max(0, size) for _, size in files], next(here, ""))
        for path, kind, size, _, mode, mtime_ns, link in rows:
            place = PlacePath(path)
            file = there.absolute(place)
            if kind == "folder":
                os.makedirs(file, exist_ok=True)
                continue
            os.makedirs(os.path.dirname(file), exist_ok=True)
            if kind == "link":
                os.symlink(link, file)
                continue
            row = laid.get(place)
            under = row.under if row else None
            source = opened.site.originals.path_of(under.digest) if under else roots.absolute(place)
            copy_file(source, file)
            if under:
                os.chmod(file, mode)
                os.utime(file, ns=(mtime_ns, mtime_ns))
            elif size >= 0 and os.path.getsize(file) != size:
                raise CannotCopy(
                    f"{shown(path)} is not the vanilla file",
                    hint="Put it right first: rellum restore --damaged",
                )
            count += 1
            listen(
                Progress(
                    stage="copying", files=count, total_files=len(rows), bytes=0, total_bytes=0
                )
            )
        if os.path.isdir(target):
            os.rmdir(target)
        os.rename(unfinished, target)
    except OSError as error:
        raise CannotCopy(
            f"vanilla cannot be copied to {target}: {error.strerror}: {error.filename}",
            hint="Nothing of it was kept. Fix that and try again.",
        ) from error
    finally:
        shutil.rmtree(unfinished, ignore_errors=True)
    return count
