"""Draft a first card from an archive or a folder."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Sequence

from rellum.core.archives.model import Archive, ArchiveFault, Extraction, Member
from rellum.core.archives.open import open_archive
from rellum.core.archives.parts import gather, part_of
from rellum.core.change.opening import open_pack
from rellum.core.change.request import Request
from rellum.core.describing.card_text import Described, DescribedFile
from rellum.core.describing.naming import TOLD_IN, guess_naming
from rellum.core.describing.shape import Game, guess_shape
from rellum.core.shelf.folder_pack import pack_folder
from rellum.core.shelf.intake import hashes_of
from rellum.core.shelf.recognise import CardFiles
from rellum.core.values.ids import ModId

_MOST_TEXTS = 12
_TEXT_BYTES = 64 << 10


def describe(request: Request, paths: Sequence[str]) -> Described:
    """Find out what an archive (or all parts of one, or a folder) is and where its files belong.

    Raises ArchiveFault, and what opening the pack and reading the catalog can raise.
    """
    with open_pack(request) as opened:
        pack_file, catalog = opened.files.pack, opened.files.catalog
        identity = opened.state.identity()
        game = Game((entry.path for entry in opened.state.baseline_files()), catalog.sheet.places)
    with tempfile.TemporaryDirectory(prefix="rellum-") as folder:
        named = _with_names(paths, folder)
        hashes = [hashes_of(path, frozenset({"sha256"})) for path, _ in named]
        files = tuple(
            DescribedFile(name=name, size=each.size, sha256=each.others["sha256"])
            for (_, name), each in zip(named, hashes, strict=True)
        )
        archive = open_archive([path for path, _ in named], paths[0], limits=pack_file.limits)
        members = archive.check(request.listen)
        told = _texts(archive, members, folder)
    names = [str(member.path) for member in members]
    top = {name.split("/")[0] for name in names if "/" in name}
    naming = guess_naming(files[0].name, top.pop() if len(top) == 1 else "", told)
    mod_id = naming.id.value
    known = CardFiles(catalog).recognise(hashes[0])
    return Described(
        naming=naming,
        shape=guess_shape(names, game, mod_id),
        files=files,
        members=len(members),
        unpacked=sum(member.size for member in members),
        game_version=str(identity.version),
        has_card=ModId(mod_id) in catalog.mods,
        known_as=known.release.name if known else "",
    )


def _with_names(paths: Sequence[str], folder: str) -> list[tuple[str, str]]:
    """Return the files to read with the names that a card gives them, in order. Raises ArchiveFault."""
    for path in paths:
        if not os.path.exists(path):
            raise ArchiveFault(f"{path}: not found")
    if len(paths) == 1 and os.path.isdir(paths[0]):
        name = os.path.basename(os.path.abspath(paths[0])) + ".zip"
        packed = os.path.join(folder, "packed")
        pack_folder(paths[0], packed)
        return [(packed, name)]
    found = [(part_of(path), path) for path in paths]
    parts = [(part, path) for part, path in found if part]
    if len(parts) != len(paths) or len({part.key for part, _ in parts}) > 1:
        if len(paths) > 1:
            raise ArchiveFault(
                "these files are not parts of the same archive",
                hint="Describe one archive at a time, or name all of its parts.",
            )
        return [(paths[0], os.path.basename(paths[0]))]
    state = gather(parts)
    if state.missing:
        raise ArchiveFault(f"{state.stem}: {state.progress}", hint="Name the other parts, too.")
    return [(path, os.path.basename(path)) for path in state.ordered]


def _texts(archive: Archive, members: Sequence[Member], folder: str) -> dict[str, str]:
    """Return the texts in which an archive describes itself, the shallowest first."""
    wanted = [
        member for member in members if member.size <= _TEXT_BYTES and TOLD_IN.search(member.path)
    ]
    wanted = sorted(wanted, key=lambda each: (each.path.count("/"), each.path))[:_MOST_TEXTS]
    jobs = [
        Extraction(
            member=member.stored_as,
            digest=member.digest,
            target=os.path.join(folder, f"text-{number}"),
            mode=0o600,
        )
        for number, member in enumerate(wanted)
    ]
    archive.extract(jobs)
    texts = {}
    for job in jobs:
        with open(job.target, encoding="utf-8-sig", errors="replace") as file:
            texts[str(job.member)] = file.read()
    return texts
