"""A working folder: the files that somebody edits, and what they say of themselves."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence

from rellum.core.archives.model import Archive, Extraction, Member
from rellum.core.catalog.self_descriptions import SelfDescription
from rellum.core.catalog.written_ids import parse_id
from rellum.core.describing.own_values import identity_of, with_fresh_identity, with_version
from rellum.core.describing.own_words import OwnWords, as_id, own_files, own_words_in
from rellum.core.durable import write_durably
from rellum.core.errors import UserError
from rellum.core.shelf.folder_pack import Packed, content_of
from rellum.core.values.paths import Roots, is_inside


class CannotPress(UserError):
    """A folder cannot be pressed as it is, or not into that release."""

    code = "cannot-press"


class WorkingFolder:
    """A folder that is to be pressed. The content of its archive begins at ``top``."""

    def __init__(
        self,
        folder: str,
        roots: Roots,
        descriptions: Sequence[SelfDescription],
        leave_out: Sequence[str],
    ) -> None:
        """Look into a folder. Raises CannotPress, ArchiveFault, OSError."""
        self.folder = os.path.abspath(folder)
        refuse_installed(self.folder, roots)
        self.wrapper = _wrapper(self.folder, descriptions)
        self.top = os.path.join(self.folder, *self.wrapper.split("/"))
        self.files, self.left_out = content_of(self.top, leave_out)
        self._edited: dict[str, bytes] = {}
        self.words: tuple[OwnWords, ...] = ()
        self.description: SelfDescription | None = None
        names = [each.name for each in self.files]
        for each in descriptions:
            self.words = own_words_in([each], names, self._content)
            if self.words:
                self.description = each
                break

    @property
    def described_in(self) -> str:
        """The file in which its one mod describes itself; empty where there is none, or several."""
        return self.words[0].file if len(self.words) == 1 else ""

    @property
    def identity(self) -> tuple[str, ...]:
        """The values by which a game tells the mod from others."""
        if not self.described_in or self.description is None:
            return ()
        return identity_of(self.description, self._content(self.described_in))

    def mod_id(self, stated: str, known: Mapping[str, str]) -> str:
        """Return the id of the card that it belongs to. Raises CannotPress."""
        said = stated or (self.words[0].id if len(self.words) == 1 else "")
        said = said or as_id(os.path.basename(self.folder))
        try:
            return parse_id(stated) if stated else known.get(said, said)
        except ValueError as error:
            raise CannotPress(f"--mod: {error}") from error

    def version(self, stated: str) -> str:
        """Return the version that it is pressed as. Raises CannotPress."""
        if len(self.words) > 1:
            files = [each.file for each in self.words[:4]]
            raise CannotPress(
                f"{self.folder}: there are {len(self.words)} mods in this folder: {', '.join(files)}",
                hint="Press each of their folders by itself.",
            )
        found = stated or (self.words[0].version if self.words else "")
        if not found:
            raise CannotPress(
                f"{self.folder}: nothing in it tells its version", hint="State it: --version 1.0"
            )
        return found

    def raise_version(self, version: str, work: str) -> str:
        """Let its own description tell a version; return the one that it told, if it was another.

        Raises CannotWriteValue.
        """
        if not self.described_in or self.description is None:
            return ""
        words = self.words[0]
        if words.version == version:
            return ""
        content = with_version(self.description, words, self._content(words.file), version)
        self._edit(words.file, content, work)
        return words.version

    def renew_identity(self, work: str) -> None:
        """Give it identifiers of its own. Raises CannotPress, CannotWriteValue."""
        if not self.identity or self.description is None:
            raise CannotPress(
                "nothing in this folder has identifiers that could be made anew",
                hint="The game sheet names their keys: identity = [...] under [[self-description]].",
            )
        file = self.described_in
        self._edit(file, with_fresh_identity(self.description, file, self._content(file)), work)

    def identity_in(
        self, members: Sequence[Member], archive: Archive, work: str
    ) -> tuple[str, ...]:
        """Return the identity that an archive with these members has. Raises ArchiveFault, OSError."""
        if self.description is None:
            return ()
        named = own_files(self.description, (str(each.path) for each in members))
        if len(named) != 1:
            return ()
        target = os.path.join(work, "described-before")
        member = next(each for each in members if each.path == named[0])
        job = Extraction(member=member.stored_as, digest=member.digest, target=target, mode=0o600)
        archive.extract([job])
        with open(target, "rb") as file:
            return identity_of(self.description, file.read())

    def write_back(self) -> None:
        """Write what was changed of its description into the folder. Raises OSError."""
        for name, content in self._edited.items():
            write_durably(os.path.join(self.top, *name.split("/")), content)

    def _content(self, name: str) -> bytes:
        if name in self._edited:
            return self._edited[name]
        path = next(each.path for each in self.files if each.name == name)
        with open(path, "rb") as file:
            return file.read((1 << 20) + 1)

    def _edit(self, name: str, content: bytes, work: str) -> None:
        """Let a file of the archive have another content; the folder's own stays until ``write_back``."""
        copy = os.path.join(work, f"edited-{len(self._edited)}")
        with open(copy, "wb") as file:
            file.write(content)
        self._edited[name] = content
        self.files = tuple(Packed(name, copy) if each.name == name else each for each in self.files)


def refuse_installed(folder: str, roots: Roots) -> None:
    """Refuse a folder of the game's: what is edited there, players lose. Raises CannotPress."""
    if not os.path.isdir(folder):
        raise CannotPress(
            f"{folder}: there is no such folder", hint="Name the folder that you edit."
        )
    for root in (roots.game_folder, *roots.outside.values()):
        if is_inside(folder, root) or is_inside(root, folder):
            raise CannotPress(
                f"{folder} belongs to the game: pressed is a folder of your own",
                hint="'rellum press --from-installed MOD FOLDER' copies an installed mod into one.",
            )


def _wrapper(folder: str, descriptions: Sequence[SelfDescription]) -> str:
    """Return the folder in a folder that has all of its content, where its mod's description lies in there.

    So the archive is never one folder too deep.
    """
    found = ""
    while True:
        files, _ = content_of(os.path.join(folder, found) if found else folder)
        names = [each.name for each in files]
        tops = {name.partition("/")[0] for name in names}
        if len(tops) != 1 or not all("/" in name for name in names):
            return found
        [top] = tops
        inside = f"{found}/{top}".strip("/")
        described = any(own_files(each, names) for each in descriptions)
        if not described and top.casefold() != os.path.basename(folder).casefold():
            return found
        found = inside
