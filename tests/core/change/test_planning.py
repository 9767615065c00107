"""The planner's table, row by row, and what holds for every row."""

from __future__ import annotations

import unittest
from dataclasses import dataclass

from hypothesis import given
from hypothesis import strategies as st

from rellum.core.change import planning
from rellum.core.change.operations import (
    BringBack,
    Found,
    Keep,
    Lay,
    Remove,
    Return,
    SetAside,
    TakeOut,
    lays,
    row_after,
)
from rellum.core.change.planning import Decision, Forget, PathFacts, WithoutEdit, decide
from rellum.core.composing.wanted import WantedFile, WantedNothing
from rellum.core.hashing import Digest
from rellum.core.layers.model import MadeFile
from rellum.core.pack.kept_copies import Kept
from rellum.core.values.content import Content, Laid
from rellum.core.values.ids import ModId, ReleaseName
from rellum.core.values.owners import FOREIGN, VANILLA
from rellum.core.values.paths import PlacePath

PATH = PlacePath("@game/a.dat")
OLD = ReleaseName(ModId("tides"), "1")
NEW = ReleaseName(ModId("tides"), "2")
WAVES = ReleaseName(ModId("waves"), "1")
MOMENT = 77


def content(letter: str, mode: int = 0o644, mtime_ns: int = 1) -> Content:
    return Content(digest=Digest(letter * 64), size=3, mode=mode, mtime_ns=mtime_ns)


V, M, N, U, X = (content(letter) for letter in "abcde")
"""Vanilla, a mod's file, the mod's new file, the user's file, another file."""

BASE = MadeFile(path=PATH, recipe="r", digest=Digest("f" * 64), size=3)
FILE = WantedFile(content=N, owner=NEW, source=b"new")
NOTHING = WantedNothing(NEW)
WAITING = Kept(path=PATH, digest=U.digest, size=3, aside_for="tides", mode=0o600)


def laid(
    what: Content | None = M,
    under: Content | None = V,
    owner: ReleaseName = OLD,
    role: str = "",
    base: Digest | None = None,
) -> Laid:
    return Laid(PATH, owner, what, under, role, base)  # type: ignore[arg-type]


@dataclass(frozen=True)
class Row:
    """A row of the table: its number, the facts, and what becomes of the path."""

    number: str
    becomes: Decision
    vanilla: Content | None = V
    laid: Laid | None = None
    now: Content | None = V
    wanted: WantedFile | WantedNothing | None = None
    waiting: Kept | None = None
    without_edit: WithoutEdit | None = None
    is_the_users: bool = False
    at_hand: tuple[Content, ...] = (V, U, X)
    to_vanilla: bool = False

    def facts(self) -> PathFacts:
        return PathFacts(
            path=PATH,
            vanilla=self.vanilla,
            laid=self.laid,
            now=self.now,
            wanted=self.wanted,
            waiting=self.waiting,
            without_edit=self.without_edit,
            is_the_users=self.is_the_users,
            at_hand=frozenset(each.digest for each in self.at_hand),
            to_vanilla=self.to_vanilla,
            moment_ns=MOMENT,
        )


MINE = FILE._replace(role="mine")
MERGED = FILE._replace(role="merge", base=BASE)
LIKE_VANILLA = FILE._replace(content=V)
BACK = Return(PATH, Found(None, FOREIGN), content("d", 0o600, MOMENT), "tides")
FORGET = Decision(Forget(PATH))
NOT_RIGHT = (
    "the file under the mod is not the vanilla file of this game version, "
    "and no copy of that one is kept"
)
NEVER_THERE = (
    "the vanilla file was missing already when a mod was laid over it, and no copy of it is kept"
)


def found(now: Content | None, owner: ReleaseName = OLD, *, changed: bool = False) -> Found:
    return Found(now, owner, changed)


ROWS = (
    Row("1", Decision(BACK), vanilla=None, now=None, waiting=WAITING),
    Row("1", Decision(BACK), vanilla=None, now=None, waiting=WAITING, wanted=MINE),
    Row("1a", Decision(BACK._replace(found=Found(V, VANILLA))), waiting=WAITING, wanted=MINE),
    Row("1 not: something stands there", Decision(), vanilla=None, now=X, waiting=WAITING),
    Row(
        "1 not: it is merged in",
        Decision(Lay(PATH, found(None, FOREIGN), N, NEW, None, b"new", "merge", BASE.digest)),  # type: ignore[arg-type]
        vanilla=None, now=None, waiting=WAITING, wanted=MERGED,
    ),
    Row("2", Decision(), wanted=LIKE_VANILLA),
    Row(
        "2 not: vanilla was changed",
        Decision(Lay(PATH, Found(X, VANILLA, True), V, NEW, X, b"new")),
        wanted=LIKE_VANILLA, now=X,
    ),
    Row("3", Decision(BringBack(PATH, found(M), V, VANILLA)), wanted=LIKE_VANILLA, laid=laid(), now=M),
    Row("3 not: over another file", Decision(Lay(PATH, found(M), V, NEW, X, b"new")),
        wanted=LIKE_VANILLA, laid=laid(under=X), now=M),
    Row("3", Decision(BringBack(PATH, found(M), V, VANILLA, b"new")),
        wanted=LIKE_VANILLA, laid=laid(), now=M, at_hand=()),
    Row("4", Decision()),
    Row("4b", Decision(), vanilla=None, now=X),
    Row("4b", Decision(), vanilla=None, now=None),
    Row("5", Decision(BringBack(PATH, Found(X, VANILLA, True), V, VANILLA, keep=Keep())), now=X),
    Row("5", Decision(BringBack(PATH, Found(None, VANILLA, True), V, VANILLA)), now=None),
    Row("5c", Decision(left_alone=planning.NO_ORIGINAL), now=X, at_hand=()),
    Row("6", Decision(Forget(PATH), planning.STAYS_YOURS),
        vanilla=None, laid=laid(under=None), now=X, is_the_users=True),
    Row("6 not: unchanged", Decision(Remove(PATH, found(M))),
        vanilla=None, laid=laid(under=None), now=M, is_the_users=True),
    Row("6 not: over a file", Decision(BringBack(PATH, found(X, changed=True), V, VANILLA, keep=Keep())),
        laid=laid(), now=X, is_the_users=True),
    Row("7", Decision(BringBack(PATH, found(M), M._replace(digest=X.digest, size=4, mtime_ns=MOMENT),
                                VANILLA, source=b"edit")),
        laid=laid(), now=M, without_edit=WithoutEdit(b"edit", X.digest, False)),
    Row("7", Decision(BringBack(PATH, found(M), M._replace(digest=X.digest, size=4, mtime_ns=MOMENT),
                                FOREIGN, source=b"edit", keep=Keep("tides", BASE.digest))),
        vanilla=None, laid=laid(base=BASE.digest), now=M, without_edit=WithoutEdit(b"edit", X.digest, True)),
    Row("7d", FORGET, laid=laid(), now=M, without_edit=WithoutEdit(b"mod", M.digest, False)),
    Row("8", FORGET, laid=laid(), now=V),
    Row("8", FORGET, vanilla=None, laid=laid(under=None), now=None),
    Row("9", Decision(BringBack(PATH, found(M), V, VANILLA)), laid=laid(), now=M),
    Row("9", Decision(BringBack(PATH, found(M), X, FOREIGN)), vanilla=None, laid=laid(under=X), now=M),
    Row("9", Decision(BringBack(PATH, found(None, changed=True), V, VANILLA)), laid=laid(), now=None),
    Row("9 changed", Decision(BringBack(PATH, found(U, changed=True), V, VANILLA, keep=Keep())),
        laid=laid(), now=U),
    Row("9 merged", Decision(BringBack(PATH, found(M), V, VANILLA, keep=Keep("tides", BASE.digest))),
        laid=laid(role="merge", base=BASE.digest), now=M),
    Row("9 old vanilla", Decision(BringBack(PATH, found(M), X, VANILLA), NOT_RIGHT),
        laid=laid(under=X), now=M),
    Row("9e", Decision(Forget(PATH), planning.NOT_KEPT), laid=laid(), now=M, at_hand=()),
    Row("9e", Decision(BringBack(PATH, found(M), V, VANILLA), kept_too=Kept(
        path=PATH, digest=X.digest, size=3, owner=FOREIGN, mode=0o644)),
        laid=laid(under=X), now=M, to_vanilla=True),
    Row("9e", Decision(BringBack(PATH, found(M), X, VANILLA), NOT_RIGHT),
        laid=laid(under=X), now=M, to_vanilla=True, at_hand=(X,)),
    Row("9e", Decision(BringBack(PATH, found(M), V, VANILLA)),
        laid=laid(under=None), now=M, to_vanilla=True),
    Row("9e", Decision(Remove(PATH, found(M)), NEVER_THERE), laid=laid(under=None), now=M),
    Row("10", Decision(Remove(PATH, found(M))), vanilla=None, laid=laid(under=None), now=M),
    Row("10", Decision(Remove(PATH, found(U, changed=True), Keep())),
        vanilla=None, laid=laid(under=None), now=U),
    Row("10f", Decision(SetAside(PATH, found(U, changed=True), Keep("tides"))),
        vanilla=None, laid=laid(under=None, role="mine"), now=U),
    Row("11", Decision(), laid=laid(None, owner=NEW), now=None, wanted=NOTHING),
    Row("12", Decision(laid(None, owner=NEW)), laid=laid(None), now=None, wanted=NOTHING),
    Row("12", Decision(laid(None, None, NEW)), now=None, wanted=NOTHING),
    Row("12g", Decision(), vanilla=None, now=None, wanted=NOTHING),
    Row("13", Decision(TakeOut(PATH, Found(V, VANILLA), NEW, V)), wanted=NOTHING),
    Row("13", Decision(TakeOut(PATH, found(U, changed=True), NEW, V, Keep())),
        laid=laid(), now=U, wanted=NOTHING),
    Row("14", Decision(left_alone=planning.STAYS_YOURS), now=U, wanted=MINE),
    Row("14", Decision(left_alone=planning.STAYS_YOURS), laid=laid(owner=NEW), now=U, wanted=MINE),
    Row("14", Decision(laid(owner=NEW, role="mine"), planning.STAYS_YOURS),
        laid=laid(role="mine"), now=U, wanted=MINE),
    Row("15", Decision(), laid=laid(N, owner=NEW), now=N, wanted=FILE),
    Row("16", Decision(laid(N, owner=NEW)), laid=laid(N), now=N, wanted=FILE),
    Row("16", Decision(laid(N, owner=NEW, role="merge", base=BASE.digest)),
        laid=laid(N, owner=NEW, role="merge"), now=N, wanted=MERGED),
    Row("16", Decision(laid(N, None, NEW)._replace(under=N)), vanilla=None, now=N, wanted=FILE),
    Row("16", Decision(laid(N._replace(mtime_ns=2), owner=NEW)),
        laid=laid(N, owner=NEW), now=N._replace(mtime_ns=2), wanted=FILE),
    Row("17", Decision(Lay(PATH, Found(V, VANILLA), N, NEW, V, b"new")), wanted=FILE),
    Row("17", Decision(Lay(PATH, Found(None, FOREIGN), N, NEW, None, b"new")),
        vanilla=None, now=None, wanted=FILE),
    Row("17", Decision(Lay(PATH, found(M, WAVES), N, NEW, V, b"new")),
        laid=laid(owner=WAVES), now=M, wanted=FILE),
    Row("17 yours, but unchanged", Decision(Lay(PATH, found(M), N, NEW, V, b"new", "mine")),
        laid=laid(role="mine"), now=M, wanted=MINE),
    Row("17", Decision(Lay(PATH, found(U, changed=True), N, NEW, V, b"new", keep=Keep())),
        laid=laid(), now=U, wanted=FILE),
    Row("17 merged", Decision(Lay(PATH, found(U, changed=True), N, NEW, V, b"new", "merge", BASE.digest)),
        laid=laid(), now=U, wanted=MERGED),
    Row("17 merged in part",
        Decision(Lay(PATH, found(U, changed=True), N, NEW, V, b"new", "merge", BASE.digest,
                     keep=Keep("tides", X.digest))),
        laid=laid(base=X.digest), now=U, wanted=MERGED._replace(keeps_copy=True, returns="tides")),
    Row("17 merged with what waited",
        Decision(Lay(PATH, Found(V, VANILLA), N, NEW, V, b"new", "merge", BASE.digest, returns="tides")),
        wanted=MERGED._replace(returns="tides")),
)  # fmt: skip

contents = st.sampled_from([None, V, M, N, U, X])
rows = st.builds(
    Row,
    number=st.just("drawn"),
    becomes=st.just(Decision()),
    vanilla=contents,
    laid=st.none()
    | st.builds(
        laid,
        contents,
        contents,
        st.sampled_from([OLD, NEW]),
        st.sampled_from(["", "merge", "mine"]),
    ),
    now=contents,
    wanted=st.sampled_from([None, FILE, MINE, MERGED, LIKE_VANILLA, NOTHING]),
    waiting=st.sampled_from([None, WAITING]),
    is_the_users=st.booleans(),
    at_hand=st.sets(st.sampled_from([V, U, X])).map(tuple),
    to_vanilla=st.booleans(),
)


class PlanningTest(unittest.TestCase):
    def test_each_row_of_the_table(self) -> None:
        for row in ROWS:
            with self.subTest(row=row.number, facts=row.facts()):
                self.assertEqual(decide(row.facts()), row.becomes)

    def test_every_row_is_tried(self) -> None:
        text = planning.__doc__ or ""
        numbers = {line.split()[0] for line in text.splitlines() if line[:1].isdigit()}
        tried = {row.number.split()[0].rstrip("abcdefg") for row in ROWS}
        self.assertEqual(tried, numbers)

    @given(rows)
    def test_what_was_done_is_done(self, row: Row) -> None:
        """Planned again over what a decision leaves, there is nothing more to do."""
        facts = row.facts()
        step = decide(facts).step
        now, then = facts.now, facts.laid
        if isinstance(step, Laid):
            then = step
        elif isinstance(step, Forget):
            then = None
        elif step is not None:
            now = step.after
            then = row_after(step, now) if lays(step) else None
        is_vanilla = facts.vanilla is not None and facts.vanilla.digest == U.digest
        if facts.waiting and is_vanilla:  # back, it is the game's own, and a mod goes over it
            return
        if facts.wanted is not None:
            again = facts._replace(now=now, laid=then, waiting=None)
            self.assertIsNone(decide(again).step)

    @given(rows)
    def test_what_the_user_changed_is_never_lost(self, row: Row) -> None:
        """A content that is neither a mod's nor vanilla's is kept, lies under what comes, or stays."""
        facts = row.facts()
        step = decide(facts).step
        if facts.now not in (U, X) or not facts.is_changed or facts.now == facts.vanilla:
            return
        if step is None or isinstance(step, Laid | Forget) or step.after == facts.now:
            return
        under = getattr(step, "under", None)
        merges = isinstance(step, Lay) and step.role == "merge"
        self.assertTrue(step.keep or under == facts.now or merges, step)


if __name__ == "__main__":
    unittest.main()
