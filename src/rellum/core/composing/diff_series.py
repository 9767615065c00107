"""A diff over the files of a folder: one edit for each file that it changes, makes or deletes."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import replace

from rellum.core.catalog.release_rules import DiffPart, FileEdit
from rellum.core.catalog.toml_lines import place_of
from rellum.core.composing.editing import patch_of, read_text
from rellum.core.composing.workshop import Workshop, Written, recipe_of, write_made
from rellum.core.layers.model import LayerEdit
from rellum.core.patching.model import PatchFault
from rellum.core.patching.patch_forms import KEYS
from rellum.core.patching.unified import FileDiff, read_diff, refuse_unread
from rellum.core.values.paths import below, fault_in_relative


def edits_of_files(workshop: Workshop, changes: Sequence[LayerEdit]) -> Iterator[LayerEdit]:
    """Yield a release's edits, each of one file; diffs over a folder are read for that, once for all time.

    Raises PatchFault.
    """
    series = [each for each in changes if each.edit.strip is not None]
    if series:  # all patches of the release come out of its archives in one pass
        workshop.expect(patch_of(each) for each in changes if each.edit.form != KEYS)
    for each in changes:
        if each.edit.strip is None:
            yield each
        else:
            yield from (replace(each, edit=edit) for edit in _expanded(workshop, each))


def _expanded(workshop: Workshop, change: LayerEdit) -> Iterator[FileEdit]:
    edit, patch = change.edit, patch_of(change)
    name = f"{edit.member} ({place_of(edit.source)})"

    def make(target: str) -> Written:
        diff = read_text(edit, workshop.file(patch))
        refuse_unread(diff, name)
        files = json.dumps([[_name(d), d.is_new, d.is_gone] for d in read_diff(diff, name)])
        write_made(target, files.encode("utf-8", "surrogatepass"))
        return Written(files)

    made = workshop.make(edit.path, recipe_of("diff-files", patch.digest), make, (patch,))
    for number, (file, is_new, is_gone) in enumerate(json.loads(made.notes)):
        path = _stripped(file, edit.strip or 0, name)
        part = DiffPart(number, is_new, is_gone)
        yield replace(edit, path=below(edit.path, path), part=part, strip=None)


def _name(diff: FileDiff) -> str:
    return diff.old_name if diff.is_gone else diff.new_name


def _stripped(file: str, strip: int, name: str) -> str:
    """Take folders off the front of a name in a diff. Raises PatchFault."""
    parts = file.split("/", strip)
    if len(parts) <= strip:
        raise PatchFault(
            f"{name}: {file!r} does not lie in {strip} folder{'s' if strip > 1 else ''} to strip",
            hint="Correct 'strip' in the card.",
        )
    if fault := fault_in_relative(parts[-1]):
        raise PatchFault(f"{name}: it is about {file!r}, which cannot be used: {fault}")
    return parts[-1]
