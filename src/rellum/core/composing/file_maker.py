"""What layers cannot lay as it comes: edited files and rebuilt containers."""

from __future__ import annotations

from collections.abc import Iterable

from rellum.core.catalog.model import GameSheet
from rellum.core.composing.editing import expect_for_edits, make_edited
from rellum.core.composing.workshop import Workshop, Written, recipe_of
from rellum.core.layers.model import Brought, LayerEdit, MadeFile, Removal
from rellum.core.layers.target import Members
from rellum.core.patching.container import extract_member, members_of, rebuild
from rellum.core.patching.model import PatchFault
from rellum.core.progress import Progress
from rellum.core.values.paths import (
    MemberPath,
    MemberPlace,
    PlacePath,
    TargetPath,
    container_pattern,
    shown,
)


class FileMaker:
    """Makes files of the layers' parts, for one pack."""

    def __init__(self, workshop: Workshop, sheet: GameSheet) -> None:
        self.workshop = workshop
        self.sheet = sheet
        self._edits = self._edited = 0

    def edit(self, change: LayerEdit, below: Brought | None, container: Brought | None) -> Brought:
        """Return a file edited; what the game has is taken where no layer brings it."""
        if below is None:
            path = change.edit.path
            if isinstance(path, MemberPlace):
                below = self._member(path, container or self.workshop.below(path.container))
            else:
                below = self.workshop.below(path)
        made = make_edited(self.workshop, change, below)
        self._edited += 1
        self.workshop.listen(Progress("editing", self._edited, self._edits, 0, 0))
        return made

    def foresee(self, edits: Iterable[tuple[LayerEdit, Brought | None]]) -> None:
        """Note what edits will need of archives, so that each archive is read once."""
        edits = list(edits)
        self._edits = len(edits)
        expect_for_edits(self.workshop, edits)

    def vanilla(self, pattern: str) -> Iterable[TargetPath]:
        """Return what the game has that fits a pattern: files, or members of a container."""
        parts = container_pattern(pattern)
        if parts is None:
            return self.workshop.vanilla(pattern)
        container = self.workshop.spelt(parts[0])
        below = self.workshop.below(container)
        if below is None:
            return ()
        fits = self.workshop.path_rules.test([parts[1]])
        members = members_of(self.workshop.file(below), shown(container))
        return [MemberPlace(container, MemberPath(member)) for member in members if fits(member)]

    def is_the_users(self, path: TargetPath) -> bool:
        """Whether a file is the user's own: not the game's, and no member of a container."""
        if isinstance(path, MemberPlace):
            return False
        return path not in self.workshop.opened.state.baseline([path])

    def rebuild(self, container: PlacePath, below: Brought | None, members: Members) -> MadeFile:
        """Return a container with members added, replaced and removed. Raises PatchFault."""
        base = below or self.workshop.below(container)
        name = shown(container)
        if base is None:
            raise PatchFault(
                f"there is no container {name}, into which a mod of the line-up puts files",
                hint="Correct 'to' in its card.",
            )
        rules = self.workshop.path_rules
        patterns = [
            drop
            for rule in self.sheet.containers
            if rules.test([rule.pattern])(container)
            for drop in rule.drops
        ]
        parts = sorted(
            (name, None if isinstance(each, Removal) else each.digest)
            for name, each in members.items()
        )
        folding = ["folds"] if rules.folds_case else []
        recipe = recipe_of("container", base.digest, parts, patterns, *folding)

        def make(target: str) -> Written:
            changes = {
                str(member): None if isinstance(each, Removal) else self.workshop.file(each)
                for member, each in members.items()
            }
            base_file = self.workshop.file(base)
            made = rebuild(base_file, changes, rules.test(patterns), target, name)
            return Written(made.as_notes(), made.digest)

        inputs = (base, *(each for each in members.values() if not isinstance(each, Removal)))
        return self.workshop.make(container, recipe, make, inputs, executable=base.executable)

    def _member(self, path: MemberPlace, below: Brought | None) -> Brought | None:
        """Return a member of a container, if it is there: of the game's, or of one that a mod brings."""
        if below is None:
            return None
        container, member = path
        name = shown(container)
        recipe = recipe_of("member", below.digest, member)
        # What was taken out once is there; only else the container, which may be large, is looked into.
        is_known = self.workshop.known(recipe) is not None
        if not is_known and member not in members_of(self.workshop.file(below), name):
            return None

        def make(target: str) -> Written:
            extract_member(self.workshop.file(below), member, target, name)
            return Written()

        return self.workshop.make(path, recipe, make, (below,))
