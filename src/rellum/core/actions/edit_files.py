"""Making the files that releases change: the patch from the shelf, over what lies under it."""

from __future__ import annotations

import hashlib
import os
import tempfile

from rellum.core.actions.open_pack import OpenPack
from rellum.core.archives.model import Extraction, Member
from rellum.core.catalog.model import FileEdit
from rellum.core.catalog.toml_lines import place_of
from rellum.core.hashing import Digest, hash_bytes
from rellum.core.layers.model import LayerEdit, MadeFile, TargetFile
from rellum.core.patching.json_patch import merge_json, patch_json
from rellum.core.patching.keys import edit_keys
from rellum.core.patching.model import PatchFault
from rellum.core.patching.unified import apply_diff, read_diff
from rellum.core.patching.vcdiff import apply_vcdiff
from rellum.core.patching.zstd_patch import apply_zstd
from rellum.core.paths import shown
from rellum.core.shelf.store import Shelf

MOST_BYTES = 256 << 20
"""Larger files are not edited: a file, its patch and what they give are all in memory."""


class Editor:
    """Makes edited files for one pack."""

    def __init__(self, opened: OpenPack, shelf: Shelf) -> None:
        self._opened = opened
        self._shelf = shelf

    def make(self, change: LayerEdit, below: TargetFile | None) -> MadeFile:
        """Return the file that an edit gives. Raises PatchFault with the line of the card."""
        edit = change.edit
        before, executable = self._below(edit, below)
        where = place_of(edit.source)
        if edit.over and hashlib.sha256(before).hexdigest() != edit.over:
            raise PatchFault(
                f"{where}: the edit of {shown(edit.path)} is for another version of that file",
                details=(
                    f"it wants SHA-256 {edit.over}",
                    f"there is      {hashlib.sha256(before).hexdigest()}",
                ),
                hint="A mod before it in load order, or the game, has another version of it.",
            )
        if edit.form == "keys" and edit.settings_form:
            after = edit_keys(before, edit.settings_form, edit.settings, where)
        else:
            after = self._apply(edit, before, self._patch(change))
        if edit.gives and hashlib.sha256(after).hexdigest() != edit.gives:
            raise PatchFault(
                f"{where}: the edit of {shown(edit.path)} does not give what the card says (SHA-256)",
                hint="Correct 'gives' in the card, or look what else changes the file.",
            )
        return MadeFile(
            path=edit.path, content=after, digest=hash_bytes(after), executable=executable
        )

    def _apply(self, edit: FileEdit, before: bytes, patch: bytes) -> bytes:
        name = f"{edit.member} ({place_of(edit.source)})"
        if edit.form == "json-patch":
            return patch_json(before, patch, name)
        if edit.form == "json-merge":
            return merge_json(before, patch, name)
        if edit.form == "vcdiff":
            return apply_vcdiff(before, patch, name, MOST_BYTES)
        if edit.form == "zstd":
            return apply_zstd(before, patch, name, MOST_BYTES)
        diffs = read_diff(patch, name)
        if len(diffs) != 1:
            raise PatchFault(
                f"{name}: is a diff of {len(diffs)} files, and an edit is of one",
                hint="Cut it into one diff a file.",
            )
        return apply_diff(before, diffs[0], name, edit.fuzz).content

    def _below(self, edit: FileEdit, below: TargetFile | None) -> tuple[bytes, bool]:
        """Return the content that an edit goes over, and whether it is a program's."""
        if below is None:
            return self._vanilla(edit), False
        file = below.file
        if isinstance(file, MadeFile):
            return file.content, file.executable
        _refuse_large(edit, file.member.size)
        return self._extract(file.archive, file.member), file.member.executable

    def _vanilla(self, edit: FileEdit) -> bytes:
        opened, path = self._opened, edit.path
        entry = opened.state.baseline([path]).get(path)
        if entry is None or entry.content is None:
            raise PatchFault(
                f"{place_of(edit.source)}: there is no file {shown(path)} to edit",
                hint="Neither the game nor a mod before this one in load order has it.",
            )
        _refuse_large(edit, entry.content.size)
        digest = entry.content.digest
        original = os.path.join(opened.home.originals_folder, digest)
        for candidate in (opened.roots.absolute(path), original):
            try:
                with open(candidate, "rb") as file:
                    content = file.read(MOST_BYTES + 1)
            except OSError:
                continue
            if hash_bytes(content) == digest:
                return content
        raise PatchFault(
            f"{shown(path)} is not as it was adopted, and an edit of it is for that",
            hint=f"Bring it back first: rellum restore {shown(path)}",
        )

    def _patch(self, change: LayerEdit) -> bytes:
        """Return the patch: the member of that name, seen through wrapper folders."""
        wanted = change.edit.member
        found = [
            (entry.digest, member)
            for entry, members in change.archives
            for member in members
            if member.path == wanted or member.path.endswith(f"/{wanted}")
        ]
        shallowest = sorted(found, key=lambda each: each[1].path.count("/"))
        if not shallowest:
            names = ", ".join(entry.name for entry, _ in change.archives)
            raise PatchFault(f"{place_of(change.edit.source)}: {wanted!r} is not in {names}")
        _refuse_large(change.edit, shallowest[0][1].size)
        return self._extract(*shallowest[0])

    def _extract(self, archive: Digest, member: Member) -> bytes:
        with tempfile.TemporaryDirectory(prefix="rellum-") as folder:
            target = os.path.join(folder, "member")
            job = Extraction(member=member.path, digest=member.digest, target=target, mode=0o600)
            self._shelf.open(archive).extract([job])
            with open(target, "rb") as file:
                return file.read()


def _refuse_large(edit: FileEdit, size: int) -> None:
    if size > MOST_BYTES:
        raise PatchFault(
            f"{place_of(edit.source)}: {shown(edit.path)} or its patch has {size:,} bytes; "
            f"edits are for files of at most {MOST_BYTES:,}"
        )
