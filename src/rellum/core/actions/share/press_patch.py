"""An update patch from one release to the next: what goes, what comes whole, what comes as a delta."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

from rellum.core.actions.share.working_folder import CannotPress
from rellum.core.archives.model import Archive, Extraction, Member
from rellum.core.catalog.model import Release
from rellum.core.catalog.release_rules import PlaceRule, ReleaseFile
from rellum.core.describing.card_growth import with_patch
from rellum.core.describing.card_text import DescribedFile
from rellum.core.durable import write_durably
from rellum.core.globs import literal
from rellum.core.hashing import Digest, hash_bytes, sha256_file
from rellum.core.layers.placing import place_archives
from rellum.core.pack.session import Session
from rellum.core.patching.making import make_diff, make_zstd
from rellum.core.patching.patch_forms import patch_form
from rellum.core.shelf.folder_pack import Packed, begins_like_program, write_zip
from rellum.core.shelf.index import ShelfEntry
from rellum.core.shelf.store import Shelf
from rellum.core.shelf.take_in import StoreOptions, take
from rellum.core.values.paths import TargetPath, root_of

_MOST_BYTES = 256 << 20
"""Files beyond this come whole: a delta is made in memory."""


class PressedPatch(NamedTuple):
    """An update patch that was pressed: how many files it removes, brings whole, and changes by a delta."""

    file: str
    size: int
    over: str
    removed_count: int
    whole_count: int
    delta_count: int


class Laid(NamedTuple):
    """A file that a release lays: the member of its archive."""

    archive: Digest
    member: Member


class Delta(NamedTuple):
    """A file that is changed: by which form of patch, which member of the archive, from what to what."""

    path: TargetPath
    form: str
    member: str
    over: str
    gives: str


class Wanted(NamedTuple):
    """What a patch is made of: two releases, and how texts are written.

    ``write_card`` writes the card's new text once it was read back.
    """

    old: Release
    new: Release
    as_diffs: bool
    write_card: Callable[[str], object]


def press_patch(opened: Session, shelf: Shelf, wanted: Wanted, target: str) -> PressedPatch:
    """Write a patch over ``wanted.old`` beside the archive of ``wanted.new``, and add it to the card.

    The patch is proven: taken from the shelf again and applied to what the old release lays, it gives what
    the new one lays. Raises CannotPress, ArchiveFault, OSError.
    """
    before, after = (_laid(shelf, each) for each in (wanted.old, wanted.new))
    gone = sorted(before.keys() - after.keys())
    changed = [
        path
        for path in sorted(after)
        if path not in before or before[path].member.digest != after[path].member.digest
    ]
    if not gone and not changed:
        raise CannotPress(
            f"{wanted.new.name} lays the same files as {wanted.old.name}: no patch is needed",
            hint="Press it without --patch-from.",
        )
    with tempfile.TemporaryDirectory(prefix="rellum-") as work:
        making = _Making(shelf, before, after, wanted.as_diffs, work)
        for path in changed:
            making.add(path)
        name = os.path.basename(target)
        ending = name.removeprefix(f"{wanted.new.mod}-{wanted.new.version.text}")
        name = f"{wanted.new.mod}-{wanted.old.version.text}-to-{wanted.new.version.text}{ending}"
        packed = os.path.join(work, name)
        if (
            not making.files
        ):  # a patch that only takes away has an archive all the same: something to hand on
            making.note("nothing to bring: this patch only removes files")
        write_zip(sorted(making.files), packed, begins_like_program)
        taken = take(shelf, packed, StoreOptions(name=name))
        members = shelf.members(taken.entry.digest)
        _prove(shelf, taken.entry, members, before, after, making)
        file = DescribedFile(name=name, size=taken.entry.size, sha256=sha256_file(packed))
        _add_to_card(wanted, gone, making, file)
        out = os.path.join(os.path.dirname(target), name)
        with open(packed, "rb") as stream:
            write_durably(out, stream.read())
        shelf.index.add_pack(opened.home.folder)
        return PressedPatch(
            file=out,
            size=taken.entry.size,
            over=wanted.old.version.text,
            removed_count=len(gone),
            whole_count=len(making.whole),
            delta_count=len(making.deltas),
        )


def refuse_no_patch(releases: Sequence[Release], version: str, new: str, shelf: Shelf) -> Release:
    """Return the release that a patch is to go over. Raises CannotPress where that cannot be."""
    named = [each for each in releases if each.version.text == version]
    if not named or version == new:
        there = ", ".join(each.version.text for each in releases if each.version.text != new)
        raise CannotPress(
            f"there is no release {version} to make a patch from",
            hint=f"Its card has {there}." if there else "Its card has no other release.",
        )
    refuse_rules(named[0])
    file = _own_archive(named[0])
    if shelf.find(file, named[0]) is None:
        raise CannotPress(
            f"the archive of {named[0].name} is not on the shelf: {file.name}",
            hint="'rellum take FILE' puts it there.",
        )
    return named[0]


def refuse_rules(release: Release) -> None:
    """Refuse a release whose files do not simply go to places. Raises CannotPress."""
    rules = release.full.places if release.full else release.places
    edits = release.full.edits if release.full else release.edits
    plain = all(each.takes_members and not each.options and not each.rename for each in rules)
    if edits or not plain or (release.patches and not release.full) or release.open_lines:
        raise CannotPress(
            f"{release.name} is laid by more than files to places (options, edits, texts, patches): a patch "
            "from it is not made by a program",
            hint="Press without --patch-from, or write the patch into the card by hand.",
        )


def _own_archive(release: Release) -> ReleaseFile:
    files = release.full.files if release.full else release.files
    if len(files) != 1:
        raise CannotPress(
            f"{release.name} has {len(files)} archives: a patch is made from one that has one",
            hint="Press without --patch-from.",
        )
    return files[0]


def _rules(release: Release) -> tuple[PlaceRule, ...]:
    return release.full.places if release.full else release.places


def _laid(shelf: Shelf, release: Release) -> dict[TargetPath, Laid]:
    """Return what a release lays, by path. Raises PlacingFault, CannotPress."""
    entry = shelf.find(_own_archive(release), release)
    if entry is None:
        raise CannotPress(
            f"the archive of {release.name} is not on the shelf", hint="Take it first."
        )
    found = place_archives(_rules(release), [(entry, shelf.members(entry.digest))])
    return {each.path: Laid(entry.digest, each.member) for each in found if each.member is not None}


class _Making:
    """The files of a patch as they come: what is brought whole, and what by a delta."""

    def __init__(
        self,
        shelf: Shelf,
        before: Mapping[TargetPath, Laid],
        after: Mapping[TargetPath, Laid],
        as_diffs: bool,
        work: str,
    ) -> None:
        self._before, self._after, self._as_diffs, self._work = before, after, as_diffs, work
        self._archives: dict[Digest, Archive] = {}
        self._shelf = shelf
        self.files: list[Packed] = []
        self.whole: list[TargetPath] = []
        self.deltas: list[Delta] = []

    def add(self, path: TargetPath) -> None:
        """Add a file that came or changed, as what is smaller."""
        new = self.content(self._after[path])
        old = self.content(self._before[path]) if path in self._before else None
        form, delta = self._delta(old, new) if old is not None else ("", None)
        if old is None or delta is None or len(delta) >= len(new):
            self.whole.append(path)
            self._write(f"files/{path[1:]}", new)
            return
        name = f"deltas/{len(self.deltas) + 1:05}.{'diff' if form == 'diff' else 'zst'}"
        self._write(name, delta)
        self.deltas.append(Delta(path, form, name, _sha256(old), _sha256(new)))

    def note(self, text: str) -> None:
        """Add a text that says what the patch is."""
        self._write("patch.txt", text.encode("utf-8") + b"\n")

    def content(self, laid: Laid) -> bytes:
        """Return the content of a file. Raises ArchiveFault, OSError."""
        return member_bytes(self._archive(laid.archive), laid.member, self._work)

    def _archive(self, digest: Digest) -> Archive:
        if digest not in self._archives:
            self._archives[digest] = self._shelf.open(digest)
        return self._archives[digest]

    def _delta(self, old: bytes, new: bytes) -> tuple[str, bytes | None]:
        if max(len(old), len(new)) > _MOST_BYTES:
            return "", None
        if self._as_diffs and (diff := make_diff(old, new)) is not None:
            return "diff", diff
        return "zstd", make_zstd(old, new)

    def _write(self, name: str, content: bytes) -> None:
        path = os.path.join(self._work, f"part-{len(self.files):05}")
        with open(path, "wb") as file:
            file.write(content)
        self.files.append(Packed(name, path))


def member_bytes(archive: Archive, member: Member, work: str) -> bytes:
    """Return the content of a member. Raises ArchiveFault, OSError."""
    target = os.path.join(work, "member")
    archive.extract(
        [Extraction(member=member.stored_as, digest=member.digest, target=target, mode=0o600)]
    )
    with open(target, "rb") as file:
        content = file.read()
    os.unlink(target)
    return content


def _prove(
    shelf: Shelf,
    entry: ShelfEntry,
    members: Sequence[Member],
    before: Mapping[TargetPath, Laid],
    after: Mapping[TargetPath, Laid],
    making: _Making,
) -> None:
    """Apply the patch as it lies on the shelf, and hold every file against the new release.

    Raises CannotPress.
    """
    by_name = {str(each.path): each for each in members}
    tree = {path: laid.member.digest for path, laid in before.items() if path in after}
    for path in making.whole:
        tree[path] = by_name[f"files/{path[1:]}"].digest
    archive = shelf.open(entry.digest)
    with tempfile.TemporaryDirectory(prefix="rellum-") as work:
        for each in making.deltas:
            patch = member_bytes(archive, by_name[each.member], work)
            made = _applied(each.form, making.content(before[each.path]), patch, work)
            tree[each.path] = hash_bytes(made)
    wrong = [path for path in after if tree.get(path) != after[path].member.digest]
    if wrong or tree.keys() != after.keys():
        raise CannotPress(f"the patch would not give {wrong[:3]}: it was not written")


def _applied(form: str, old: bytes, patch: bytes, work: str) -> bytes:
    found = patch_form(form)  # type: ignore[arg-type]
    if not found.is_binary:
        return found.text_patch()(old, patch, "the new patch", 0)
    target = os.path.join(work, "made")
    with open(target, "wb") as out:
        found.binary_patch()(old, patch, out, "the new patch", _MOST_BYTES)
    with open(target, "rb") as file:
        return file.read()


def _add_to_card(
    wanted: Wanted, gone: Sequence[TargetPath], making: _Making, file: DescribedFile
) -> None:
    """Make the release one that can be had as the patch, too. Raises CannotSave, OSError."""
    card = wanted.new.source.file
    with open(card, encoding="utf-8", newline="") as stream:
        text = stream.read()
    lines = ["", *_file_lines(file)]
    for root in sorted({root_of(path) for path in making.whole}):
        lines += ["", "  [[release.place]]", f'  take = "files/{root[1:]}/**"', f'  to = "{root}/"']
    for each in making.deltas:
        lines += ["", *_edit_lines(each)]
    removes = [literal(str(path)) for path in gone]
    head = [f'patches = "{wanted.old.version.text}"']
    head += [f"removes = {json.dumps(removes, ensure_ascii=False)}"] if removes else []
    wanted.write_card(with_patch(text, wanted.new.version.text, head, lines))


def _file_lines(file: DescribedFile) -> Iterator[str]:
    yield "  [[release.file]]"
    yield f"  name = {json.dumps(file.name, ensure_ascii=False)}"
    yield f"  size = {file.size}"
    yield f'  sha256 = "{file.sha256}"'


def _edit_lines(delta: Delta) -> Iterator[str]:
    yield "  [[release.edit]]"
    yield f"  file = {json.dumps(delta.path, ensure_ascii=False)}"
    yield f'  by = "{delta.form}"'
    yield f'  with = "{delta.member}"'
    yield f'  over = "{delta.over}"'
    yield f'  gives = "{delta.gives}"'


def _sha256(content: bytes) -> str:
    import hashlib

    return hashlib.sha256(content).hexdigest()
