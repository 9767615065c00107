"""Making the files that releases change: the patch from the shelf, over what lies under it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from rellum.core.archives.model import STANDARD_LIMITS
from rellum.core.catalog.release_rules import DiffPart, FileEdit
from rellum.core.catalog.toml_lines import place_of
from rellum.core.composing.workshop import Workshop, Written, recipe_of, write_made
from rellum.core.hashing import sha256_file
from rellum.core.layers.model import Brought, LayerEdit, LayerFile, MadeFile
from rellum.core.patching.keys import edit_keys
from rellum.core.patching.mapped import mapped
from rellum.core.patching.model import PatchFault
from rellum.core.patching.patch_forms import KEYS, PATCH_FORMS, form_by_mark, patch_form
from rellum.core.patching.unified import FileDiff, apply_diff, read_diff
from rellum.core.values.paths import shown

MOST_TEXT_BYTES = 64 << 20
"""Larger texts are not edited: a text, its patch and what they give are all in memory."""

MOST_BYTES = 64 << 30
"""No binary patch may give more."""

_MARK_BYTES = 16

OF_OLD = 16
"""How many times the old file, beside what its own bytes may unpack to, a binary patch may give."""


def expect_for_edits(workshop: Workshop, edits: Iterable[tuple[LayerEdit, Brought | None]]) -> None:
    """Let the workshop expect what edits need: their patches, and the files of layers under them.

    Nothing of an edit whose result is known already. Raises PatchFault.
    """
    for change, below in edits:
        patch = None if change.edit.form == KEYS else patch_of(change)
        if below is not None and workshop.known(_recipe(change.edit, below, patch)) is not None:
            continue
        workshop.expect(each for each in (below, patch) if isinstance(each, LayerFile))


def _recipe(edit: FileEdit, below: Brought | None, patch: LayerFile | None) -> str:
    version = 1 if edit.form == KEYS else patch_form(edit.form).version
    more: list[object] = [edit.part] if edit.part else []
    more += [version] if version > 1 else []
    return recipe_of(
        edit.form,
        below.digest if below else None,
        patch.digest if patch else repr((edit.settings_form, edit.settings)),
        edit.fuzz,
        edit.over,
        edit.gives,
        *more,
    )


def make_edited(workshop: Workshop, change: LayerEdit, below: Brought | None) -> MadeFile:
    """Return the file that an edit gives. Raises PatchFault with the line of the card."""
    edit = change.edit
    rules = workshop.opened.rules
    if isinstance(edit.path, str) and rules.settings_form(edit.path) == "ini-exact":
        edit = replace(edit, settings_form=edit.settings_form and "ini-exact")
    where = place_of(edit.source)
    part = edit.part or DiffPart()
    if below is not None and part.is_new and below.size:
        raise PatchFault(
            f"{where}: the diff makes {shown(edit.path)}, which is there already",
            hint="The game, or a mod before this one in load order, has it.",
        )
    if below is None and not part.is_new:
        raise PatchFault(
            f"{where}: there is no file {shown(edit.path)} to edit",
            hint="Neither the game nor a mod before this one in load order has it.",
        )
    before = below
    patch = None if edit.form == KEYS else patch_of(change)
    recipe = _recipe(edit, before, patch)

    def make(target: str) -> Written:
        base = workshop.file(before) if before else ""
        _refuse_other(edit, base)
        if patch is not None and patch_form(edit.form).is_binary:
            _make_binary(edit, base, workshop.file(patch), target)
        else:
            old = read_text(edit, base) if base else b""
            if edit.part and patch:
                diff = _file_diff(workshop, edit, patch)
                name = f"{edit.member} ({where})"
                new = apply_diff(old, diff, name, edit.fuzz).content
            else:
                new = _edited_text(
                    edit, old, read_text(edit, workshop.file(patch)) if patch else b""
                )
            if part.is_gone and new:
                raise PatchFault(
                    f"{where}: the diff deletes {shown(edit.path)}, and lines of it would be left",
                    hint="It is meant for another version of that file.",
                )
            write_made(target, new)
        if edit.gives and sha256_file(target) != edit.gives:
            raise PatchFault(
                f"{where}: the edit of {shown(edit.path)} does not give what the card says (SHA-256)",
                hint="Correct 'gives' in the card, or look what else changes the file.",
            )
        return Written()

    inputs = [each for each in (before, patch) if each]
    return workshop.make(
        edit.path, recipe, make, inputs, executable=before is not None and before.executable
    )


def _file_diff(workshop: Workshop, edit: FileEdit, patch: LayerFile) -> FileDiff:
    """Return what a diff over a folder says of one file; the diff is read once. Raises PatchFault."""
    assert edit.part is not None
    diffs = workshop.diffs.get(patch.digest)
    if diffs is None:
        content = read_text(edit, workshop.file(patch))
        diffs = read_diff(content, f"{edit.member} ({place_of(edit.source)})")
        workshop.diffs[patch.digest] = diffs
    return diffs[edit.part.number]


def _refuse_other(edit: FileEdit, base: str) -> None:
    """Refuse to edit another version of a file than the card names. Raises PatchFault."""
    if edit.over and (found := sha256_file(base)) != edit.over:
        raise PatchFault(
            f"{place_of(edit.source)}: the edit of {shown(edit.path)} is for another version of "
            "that file",
            details=(f"it wants SHA-256 {edit.over}", f"there is      {found}"),
            hint="A mod before it in load order, or the game, has another version of it.",
        )


def _edited_text(edit: FileEdit, before: bytes, patch: bytes) -> bytes:
    if edit.form == KEYS and edit.settings_form:
        return edit_keys(before, edit.settings_form, edit.settings, place_of(edit.source))
    name = f"{edit.member} ({place_of(edit.source)})"
    _refuse_other_form(edit, patch, name)
    return patch_form(edit.form).text_patch()(before, patch, name, edit.fuzz)


def _make_binary(edit: FileEdit, base: str, patch: str, target: str) -> None:
    name = f"{edit.member} ({place_of(edit.source)})"
    with mapped(base) as old, mapped(patch) as delta, open(target, "x+b") as out:
        _refuse_other_form(edit, delta[:_MARK_BYTES], name)
        apply = patch_form(edit.form).binary_patch()
        limits = STANDARD_LIMITS
        most = limits.ratio_free + OF_OLD * len(old) + limits.ratio * len(delta)
        apply(old, delta, out, name, min(most, MOST_BYTES))


def _refuse_other_form(edit: FileEdit, head: bytes, name: str) -> None:
    """Refuse a patch that begins as one of another form does. Raises PatchFault."""
    found = form_by_mark(head)
    if found is not None and found.id != edit.form:
        raise PatchFault(
            f"{name}: the card says that it is a patch by {edit.form}, and it is {found.standard}",
            hint=f'Write by = "{found.id}" in the card.',
        )


def read_text(edit: FileEdit, file: str) -> bytes:
    """Return a text that is edited, or the patch of it. Raises PatchFault for one that is too large."""
    with open(file, "rb") as stream:
        content = stream.read(MOST_TEXT_BYTES + 1)
    if len(content) > MOST_TEXT_BYTES:
        raise PatchFault(
            f"{place_of(edit.source)}: {shown(edit.path)} or its patch has more than the "
            f"{MOST_TEXT_BYTES:,} bytes up to which texts are edited",
            hint=f"Bring the file whole, or by a binary patch ({_binary_forms()}).",
        )
    return content


def _binary_forms() -> str:
    return ", ".join(form.id for form in PATCH_FORMS if form.is_binary)


def patch_of(change: LayerEdit) -> LayerFile:
    """Return an edit's patch: the member of that name, seen through wrapper folders. Raises PatchFault."""
    wanted = change.edit.member
    found = [
        LayerFile(path=change.edit.path, archive=entry.digest, member=member)
        for entry, members in change.archives
        for member in members
        if member.path == wanted or member.path.endswith(f"/{wanted}")
    ]
    if not found:
        names = ", ".join(entry.name for entry, _ in change.archives)
        raise PatchFault(f"{place_of(change.edit.source)}: {wanted!r} is not in {names}")
    return min(found, key=lambda each: each.member.path.count("/"))
