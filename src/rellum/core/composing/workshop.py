"""Files that are made: each by a recipe, once; and again only where something that went into it changed.

A recipe names everything that a file's content depends on, by hash. What a recipe gave is remembered
by size and hash, so that a plan needs no content of a file that already lies where it belongs.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable, Iterable
from typing import NamedTuple, Self

from rellum.core.archives.model import Archive, Extraction
from rellum.core.composing.known_folders import spelt
from rellum.core.composing.needed import MissingArchives
from rellum.core.errors import UserError
from rellum.core.globs import fixed_folder
from rellum.core.hashing import Digest, hash_bytes, hash_file
from rellum.core.layers.model import Brought, DiskFile, LayerFile, MadeFile
from rellum.core.pack.session import Session
from rellum.core.pack.standing import note_suspect
from rellum.core.pack.state import Made
from rellum.core.patching.unified import FileDiff
from rellum.core.progress import Listener, silent
from rellum.core.shelf.store import Shelf
from rellum.core.values.path_rules import PathRules
from rellum.core.values.paths import PlacePath, Roots, TargetPath, file_of, shown
from rellum.core.words import quoted


class Written(NamedTuple):
    """What a maker has to say of the file that it wrote; ``digest`` where it is known already."""

    notes: str = ""
    digest: Digest | None = None


Maker = Callable[[str], Written]
"""Writes a new file at a path."""


class NotTheSame(UserError):
    """A recipe gave something else than the last time."""

    code = "not-the-same"


class NotAsAdopted(UserError):
    """A vanilla file that an edit starts from was changed, and its original is not kept."""

    code = "not-as-adopted"


def recipe_of(kind: str, *parts: object) -> str:
    """Return the name of a recipe: a hash of its kind and of all that goes into it."""
    return hash_bytes(json.dumps([kind, *parts]).encode("utf-8", "surrogatepass"))


class Workshop:
    """Makes files for one pack, in a folder of its own; and tells where those lie that are not made."""

    def __init__(
        self,
        opened: Session,
        shelf: Shelf,
        roots: Roots,
        path_rules: PathRules,
        *,
        listen: Listener = silent,
    ) -> None:
        """``path_rules`` say how the game compares paths."""
        self.listen = listen
        self.opened = opened
        self.roots = roots
        self.path_rules = path_rules
        self.shelf = shelf
        self._folder = opened.home.work_folder
        self._makers: dict[str, Maker] = {}
        self._inputs: dict[str, tuple[Brought, ...]] = {}
        self._files: dict[str, str] = {}
        self._count = 0
        self._learnt: dict[str, Made] = {}
        self.diffs: dict[Digest, tuple[FileDiff, ...]] = {}
        """Diffs over folders that were read, by the hash of the diff."""
        self._expected: dict[Digest, dict[Digest, LayerFile]] = {}

    def __enter__(self) -> Self:
        shutil.rmtree(self._folder, ignore_errors=True)  # left by a process that was killed
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def close(self) -> None:
        """Remove all that was made and not laid; what was learnt is remembered, in one go."""
        if self._learnt:
            self.opened.state.remember_made(self._learnt)
            self._learnt = {}
        shutil.rmtree(self._folder, ignore_errors=True)

    def make(
        self,
        path: TargetPath,
        recipe: str,
        maker: Maker,
        inputs: Iterable[Brought],
        *,
        executable: bool = False,
    ) -> MadeFile:
        """Return what a recipe gives; ``maker`` is only called where that is not known yet.

        ``inputs`` are the files that it asks for.
        """
        self._makers[recipe] = maker
        self._inputs[recipe] = tuple(inputs)
        made = self.known(recipe)
        if made is None:
            file = self._new_file(recipe)
            written = maker(file)
            digest = written.digest or hash_file(file)
            made = Made(digest=digest, size=os.path.getsize(file), notes=written.notes)
            self.remember(recipe, made)
        return MadeFile(
            path=path,
            recipe=recipe,
            digest=made.digest,
            size=made.size,
            executable=executable,
            notes=made.notes,
        )

    def known(self, recipe: str) -> Made | None:
        """Return what a recipe gave when it was last followed."""
        return self._learnt.get(recipe) or self.opened.state.made(recipe)

    def remember(self, recipe: str, made: Made) -> None:
        """Remember what a recipe gave."""
        self._learnt[recipe] = made

    def make_text(self, path: TargetPath, content: bytes) -> MadeFile:
        """Return a small file with that content."""
        digest = hash_bytes(content)
        recipe = recipe_of("text", digest)
        self._makers[recipe] = lambda file: write_made(file, content)
        return MadeFile(path=path, recipe=recipe, digest=digest, size=len(content))

    def archive(self, digest: Digest) -> Archive:
        """Return an archive of the shelf. Raises MissingArchives where it went meanwhile."""
        self._refuse_gone(digest)
        return self.shelf.open(digest)

    def _refuse_gone(self, digest: Digest) -> None:
        if not os.path.exists(self.shelf.path_of(digest)):
            raise MissingArchives(
                "an archive that the change needs is no longer on the shelf",
                hint="Run 'rellum fetch', or 'rellum take FILE', then try again.",
            )

    def file(self, brought: Brought) -> str:
        """Return a file on disk with the content of what a layer brings.

        Only one that was made may be moved away; it is made again if it is asked for again.
        """
        if isinstance(brought, DiskFile):
            return brought.file or self._find(brought)
        key = brought.recipe if isinstance(brought, MadeFile) else brought.digest
        if key in self._files and os.path.exists(self._files[key]):
            return self._files[key]
        if isinstance(brought, LayerFile):
            return self._extracted(brought)
        file = self._new_file(key)
        written = self._makers[brought.recipe](file)
        digest = written.digest or hash_file(file)
        if digest != brought.digest:
            self.remember(brought.recipe, Made(digest, os.path.getsize(file), written.notes))
            raise NotTheSame(
                f"{shown(brought.path)} was rebuilt and differs from the last time",
                hint="One of its sources changed meanwhile. Try again.",
            )
        return file

    def assure(self, wanted: Iterable[Brought]) -> None:
        """Look whether all can be had that will be asked for, so that nothing begins that must fail.

        Raises MissingArchives, NotAsAdopted.
        """
        archives = set()
        waiting = list(wanted)
        while waiting:
            each = waiting.pop()
            if isinstance(each, LayerFile):
                archives.add(each.archive)
            elif isinstance(each, MadeFile):
                waiting += () if self._is_made(each) else self._inputs.get(each.recipe, ())
            elif not each.file:
                self._find(each)
        for archive in archives:
            self._refuse_gone(archive)

    def _is_made(self, file: MadeFile) -> bool:
        return os.path.exists(self._files.get(file.recipe, ""))

    def expect(self, files: Iterable[LayerFile]) -> None:
        """Note members of archives that will be asked for: they are taken out together, in one pass."""
        for each in files:
            self._expected.setdefault(each.archive, {})[each.digest] = each

    def _extracted(self, wanted: LayerFile) -> str:
        """Take a member out of its archive, with all others of it that are expected; return where it is."""
        expected = self._expected.pop(wanted.archive, {})
        jobs = []
        for digest, each in {**expected, wanted.digest: wanted}.items():
            if digest not in self._files or not os.path.exists(self._files[digest]):
                target = self._new_file(digest)
                jobs.append(
                    Extraction(
                        member=each.member.stored_as, digest=digest, target=target, mode=0o600
                    )
                )
        self.archive(wanted.archive).extract(jobs, self.listen)
        return self._files[wanted.digest]

    def _new_file(self, key: str) -> str:
        os.makedirs(self._folder, exist_ok=True)
        self._count += 1
        file = os.path.join(self._folder, f"{self._count:06}")
        self._files[key] = file
        return file

    def below(self, path: PlacePath) -> DiskFile | None:
        """Return what lies under all layers at a path: the vanilla file, or what the user had there.

        None where there is nothing. Its file is looked for only when it is asked for.
        """
        state = self.opened.state
        laid = state.laid([path]).get(path)
        entry = state.baseline([path]).get(path)
        content = entry.content if entry else laid.under if laid else None
        if content is not None:
            executable = bool(content.mode & 0o100)
            return DiskFile(
                path=path, file="", digest=content.digest, size=content.size, executable=executable
            )
        return None if laid is not None else self.now(path)  # what Rellum did not lay is the user's

    def now(self, path: PlacePath) -> DiskFile | None:
        """Return the file that stands at a path; None where there is none, or a link."""
        absolute = self.roots.absolute(path)
        if not os.path.isfile(absolute) or os.path.islink(absolute):
            return None
        size = os.path.getsize(absolute)
        return DiskFile(path=path, file=absolute, digest=hash_file(absolute), size=size)

    def spelt(self, path: PlacePath) -> PlacePath:
        """Return a path as the game spells it, if the game has it."""
        return spelt(self.opened.state, path, self.path_rules)

    def vanilla(self, pattern: str) -> list[PlacePath]:
        """Return the vanilla files that fit a pattern."""
        folder = self.spelt(PlacePath(fixed_folder(pattern).rstrip("/")))
        fits = self.path_rules.test([pattern])
        found = self.opened.state.baseline_below(folder).items()
        return [path for path, entry in found if entry.content is not None and fits(path)]

    def _seems_vanilla(self, file: DiskFile, candidate: str) -> bool:
        """Whether a vanilla file lies where it did, with the size and time that it had."""
        entry = self.opened.state.baseline([path := file_of(file.path)]).get(path)
        if entry is None or entry.content is None or entry.content.digest != file.digest:
            return False
        try:
            status = os.lstat(candidate)
        except OSError:
            return False
        content = entry.content
        return (status.st_size, status.st_mtime_ns) == (content.size, content.mtime_ns)

    def _find(self, file: DiskFile) -> str:
        """Return where the content lies of what lay under all layers. Raises NotAsAdopted."""
        if file.digest not in self._files:
            original = os.path.join(self.opened.home.originals_folder, file.digest)
            place = self.roots.absolute(file_of(file.path))
            for candidate in (original, place):
                # Hashed each time: what is made of a wrong content would be remembered as right.
                if _has(candidate, file.digest):
                    self._files[file.digest] = candidate
                    break
            else:
                if self._seems_vanilla(file, place):
                    note_suspect(self.opened.state, file_of(file.path), place)
                raise NotAsAdopted(
                    f"{shown(file.path)} is not as it was adopted, and the line-up builds on it",
                    hint="No original of it is kept. From a clean copy of the game: rellum restore "
                    f"{quoted(shown(file_of(file.path)))} --from COPY{self._or_take_update()}",
                )
        return self._files[file.digest]

    def _or_take_update(self) -> str:
        """Propose to take it for an update, which is refused where the version's files are known."""
        game = self.opened.state.identity()
        known = {(k.version, k.edition, k.expansions) for k in self.opened.files.sheet.baselines}
        if (game.version, game.edition, game.expansions) in known:
            return ""
        return "\nIf the game's store changed it, move the pack to that: rellum apply --take-update"


def _has(file: str, digest: Digest) -> bool:
    return os.path.isfile(file) and hash_file(file) == digest


def write_made(file: str, content: bytes) -> Written:
    """Write a new file that was made in memory."""
    with open(file, "xb") as stream:
        stream.write(content)
    return Written()
