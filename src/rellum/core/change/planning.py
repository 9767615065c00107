"""What becomes of one path, as a table: a pure function that reads no disk, no database and no clock.

It follows from four things: what vanilla has at the path, what Rellum laid there, what stands there now, and
what is wanted. *Changed* means that what stands there is not what was left: what was laid or, where nothing
was laid, vanilla. The first row that fits counts. A dash stands for anything.

==  ===================  ===================  ========================  =====================================
#   wanted               laid                 stands there now          becomes
==  ===================  ===================  ========================  =====================================
1   the waiting file     nothing              nothing [a]_              ``Return``
2   the vanilla file     nothing              the vanilla file          nothing to do
3   the vanilla file     over vanilla         --                        as if nothing were wanted
4   nothing              nothing              as vanilla [b]_           nothing to do
5   nothing              nothing              changed                   ``BringBack`` vanilla [c]_
6   nothing              over nothing         changed, the user's own   stays; ``Forget``
7   nothing              an edited file       a file                    ``BringBack`` without the edit [d]_
8   nothing              a file               what lies under           ``Forget``
9   nothing              over a file          --                        ``BringBack`` what lies under [e]_
10  nothing              over nothing         a file                    ``Remove``, ``SetAside`` [f]_
11  no file              as wanted            nothing                   nothing to do
12  no file              --                   nothing                   noted [g]_
13  no file              --                   a file [h]_               ``TakeOut``
14  a file, left alone   --                   changed [h]_              stays; noted if of another release
15  a file               as wanted            that file                 nothing to do
16  a file               --                   that file                 noted
17  a file               --                   --                        ``Lay``
==  ===================  ===================  ========================  =====================================

.. [a] Also the vanilla file, where the mod brings a file that it leaves alone (role ``mine``).
.. [b] Also where vanilla has no file there.
.. [c] Where the store of originals has it; else the path is named as left alone.
.. [d] ``Forget`` where the edit changes nothing.
.. [e] Where vanilla is wanted: the vanilla file, if it can be had. Where nothing can be had, the file stays
   as it is, forgotten and named; what the mod of row 3 brings is such a file.
.. [f] ``SetAside`` where the user changed a file that takes the user's changes: it waits for the mod.
.. [g] Nothing to do where nothing was there before, either.
.. [h] What sheet or cards call the user's own is never vanilla, so it counts as changed where no mod laid it;
   it stays, whoever wants another file there, or none, but for one that is merged with it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from rellum.core.change.operations import (
    BringBack,
    Found,
    Keep,
    Lay,
    Operation,
    Remove,
    Return,
    SetAside,
    TakeOut,
)
from rellum.core.composing.wanted import Wanted, WantedFile, WantedNothing
from rellum.core.hashing import Digest
from rellum.core.pack.kept_copies import Kept
from rellum.core.values.content import PLAIN_MODE, Content, Laid
from rellum.core.values.owners import FOREIGN, VANILLA, mod_of
from rellum.core.values.paths import PlacePath

if TYPE_CHECKING:
    from rellum.core.layers.model import Brought

NO_ORIGINAL = "no copy of the vanilla file is kept"
STAYS_YOURS = "it is your own, and stays as it is"
NOT_KEPT = (
    "no copy is kept of the file from before the mod, so it stays as it is: "
    "'rellum restore PATH --from COPY' takes a vanilla file from a clean copy"
)


class WithoutEdit(NamedTuple):
    """An edited file as it is without what its mod did in it.

    ``keeps``: keep a copy of the present file for the mod, as this one lacks some of it.
    """

    content: bytes
    digest: Digest
    keeps: bool


class PathFacts(NamedTuple):
    """All that decides what becomes of one path.

    waiting: the user's file that waits for a mod of the line-up
    without_edit: what the file is without the edit of the mod that goes
    is_the_users: a file there is the user's own, where its mod brings it no longer
    is_carried: the sheet or a card of the line-up calls what is there the user's own
    at_hand: which of the vanilla content and the one under a laid file lie in the store of originals
    to_vanilla: vanilla is to come back, whatever lay under a mod
    moment_ns: the time for files that are made now, in ns since 1970
    """

    path: PlacePath
    vanilla: Content | None
    laid: Laid | None
    now: Content | None
    wanted: Wanted | None
    waiting: Kept | None = None
    without_edit: WithoutEdit | None = None
    is_the_users: bool = False
    is_carried: bool = False
    at_hand: frozenset[Digest] = frozenset()
    to_vanilla: bool = False
    moment_ns: int = 0

    @property
    def is_changed(self) -> bool:
        """Whether what stands there is not what was left."""
        return _digest(self.now) != _digest(self.laid.content if self.laid else self.vanilla)

    @property
    def found(self) -> Found:
        """What stands there now, and whose it is."""
        owner = self.laid.owner if self.laid else VANILLA if self.vanilla else FOREIGN
        return Found(self.now, owner, self.is_changed)


class Forget(NamedTuple):
    """Nothing is laid at a path any longer; what stands there stays."""

    path: PlacePath


class Decision(NamedTuple):
    """What becomes of a path.

    step: an operation, a row to note in the state, a row to forget, or nothing at all
    left_alone: why something stays that should not, for the user
    kept_too: a content in the store of originals that joins the kept copies
    """

    step: Operation | Laid | Forget | None = None
    left_alone: str = ""
    kept_too: Kept | None = None


NOTHING = Decision()


def decide(facts: PathFacts) -> Decision:
    """Return what becomes of a path, by the table above."""
    wanted = facts.wanted
    if facts.waiting is not None and _may_return(facts):
        return Decision(_returned(facts, facts.waiting))
    if isinstance(wanted, WantedFile) and _is_vanilla(wanted, facts):
        # The mod brings what the game has: that stays, or becomes, the game's own file again.
        laid = facts.laid
        if not facts.is_changed if laid is None else laid.under == facts.vanilla:
            wanted = None
    if wanted is None:
        return _unlaid(facts) if facts.laid is None else _going(facts, facts.laid)
    if isinstance(wanted, WantedNothing):
        return _taken_out(facts, wanted)
    return _laid(facts, wanted)


def _digest(content: Content | None) -> Digest | None:
    return content.digest if content else None


def _is_vanilla(wanted: WantedFile, facts: PathFacts) -> bool:
    return facts.vanilla is not None and wanted.content.digest == facts.vanilla.digest


def _may_return(facts: PathFacts) -> bool:
    """Whether the user's file that waited for its mod comes back just as it was.

    One that is merged with what the mod brings is part of the wanted file instead (``WantedFile.returns``).
    """
    wanted, now = facts.wanted, facts.now
    if wanted is None:
        return now is None
    if not isinstance(wanted, WantedFile) or wanted.role != "mine":
        return False
    return now is None or now == facts.vanilla


def _returned(facts: PathFacts, kept: Kept) -> Return:
    mode = PLAIN_MODE if kept.mode is None else kept.mode
    is_vanilla = facts.now is not None and facts.vanilla is not None
    return Return(
        path=facts.path,
        found=Found(facts.now, VANILLA if is_vanilla else FOREIGN),
        after=Content(digest=kept.digest, size=kept.size, mode=mode, mtime_ns=facts.moment_ns),
        mod=kept.aside_for,
    )


def _unlaid(facts: PathFacts) -> Decision:
    """Rows 4 and 5: no mod was here; a vanilla file that changed comes back."""
    native = facts.vanilla
    if native is None or not facts.is_changed:
        return NOTHING
    if native.digest not in facts.at_hand:
        return Decision(left_alone=NO_ORIGINAL)
    keep = Keep() if facts.now else None
    return Decision(BringBack(facts.path, facts.found, native, VANILLA, keep=keep))


def _going(facts: PathFacts, laid: Laid) -> Decision:
    """Rows 6 to 10: the mod goes, and what lies under it comes back."""
    now = facts.now
    forget = Forget(facts.path)
    if now is not None and facts.is_changed and laid.under is None and facts.is_the_users:
        return Decision(forget, left_alone=STAYS_YOURS)
    if now is not None and facts.without_edit is not None:
        return Decision(_without_edit(facts, laid, now, facts.without_edit))
    under, left_alone, kept_too = _under(facts, laid)
    if _digest(now) == _digest(under):
        return Decision(forget, left_alone, kept_too)
    source = None
    if under is not None and under.digest not in facts.at_hand:
        source = _same_in_mod(facts, under)
        if source is None:
            return Decision(forget, NOT_KEPT, kept_too)
    is_mixed = now is not None and laid.base is not None and now.digest != laid.base
    keep = None
    if now is not None and (facts.is_changed or is_mixed):
        # What takes the user's changes waits for its mod; anything else joins the list of kept copies.
        keep = Keep(mod_of(laid.owner), laid.base) if laid.role else Keep()
    step: Operation
    if under is not None:
        owner = VANILLA if facts.vanilla else FOREIGN
        step = BringBack(facts.path, facts.found, under, owner, source, keep)
    elif keep and keep.for_mod:
        step = SetAside(facts.path, facts.found, keep)
    else:
        step = Remove(facts.path, facts.found, keep)
    return Decision(step, left_alone, kept_too)


def _same_in_mod(facts: PathFacts, content: Content) -> Brought | bytes | None:
    """Return the source of a content that the store of originals lacks, where the mod brings just that."""
    wanted = facts.wanted
    is_same = isinstance(wanted, WantedFile) and wanted.content.digest == content.digest
    return wanted.source if isinstance(wanted, WantedFile) and is_same else None


def _without_edit(
    facts: PathFacts, laid: Laid, now: Content, without: WithoutEdit
) -> BringBack | Forget:
    """Row 7: the file stays, without what the mod had set in it."""
    if without.digest == now.digest:
        return Forget(facts.path)
    size = len(without.content)
    after = now._replace(digest=without.digest, size=size, mtime_ns=facts.moment_ns)
    if laid.under is not None and laid.under.digest == without.digest:
        after = laid.under  # nothing else had changed: it is as it was, its time too
    return BringBack(
        path=facts.path,
        found=Found(now, laid.owner),
        after=after,
        owner=VANILLA if facts.vanilla else FOREIGN,
        source=without.content,
        keep=Keep(mod_of(laid.owner), laid.base) if without.keeps else None,
    )


def _under(facts: PathFacts, laid: Laid) -> tuple[Content | None, str, Kept | None]:
    """Return what comes back where a mod goes, why that is not right (if so), and what to keep of it.

    A vanilla file is what the baseline says. What was under the mod may be of another version of the game,
    or somebody's: it only stands in where the right content cannot be had.
    """
    under, native, now = laid.under, facts.vanilla, facts.now
    if native is None or (under is not None and under.digest == native.digest):
        return under, "", None
    if facts.to_vanilla:
        right = now if _digest(now) == native.digest else None
        if right is None and native.digest in facts.at_hand:
            right = native
        if right is not None:
            return right, "", _kept_under(facts.path, under) if under else None
    if under is None:
        why = "the vanilla file was missing already when a mod was laid over it"
        return None, f"{why}, and no copy of it is kept", None
    why = ""
    if _digest(now) == under.digest or under.digest in facts.at_hand:
        why = "the file under the mod is not the vanilla file of this game version"
        why += ", and no copy of that one is kept"
    return under, why, None


def _kept_under(path: PlacePath, under: Content) -> Kept:
    """Return what lay under a mod and was not vanilla, as a kept copy: it is in the store already."""
    return Kept(path=path, digest=under.digest, size=under.size, owner=FOREIGN, mode=under.mode)


def _taken_out(facts: PathFacts, wanted: WantedNothing) -> Decision:
    """Rows 11 to 13: a release wants nothing at this path."""
    laid, now = facts.laid, facts.now
    under = laid.under if laid else now
    if facts.is_carried and now is not None and facts.is_changed:
        return Decision(left_alone=STAYS_YOURS)
    if now is None:
        is_noted = laid is not None and laid.content is None and laid.owner == wanted.owner
        if is_noted or (under is None and facts.vanilla is None):
            return NOTHING
        return Decision(Laid(facts.path, wanted.owner, content=None, under=under))
    owner = laid.owner if laid else VANILLA
    keep = Keep() if facts.is_changed and laid is not None else None
    found = Found(now, owner, facts.is_changed)
    return Decision(TakeOut(facts.path, found, wanted.owner, under, keep))


def _laid(facts: PathFacts, wanted: WantedFile) -> Decision:
    """Rows 14 to 17: a release wants a file at this path."""
    laid, now = facts.laid, facts.now
    base = wanted.base.digest if wanted.base else None
    is_left = wanted.role == "mine" or (facts.is_carried and wanted.role != "merge")
    if is_left and now is not None and facts.is_changed:
        return _stays_the_users(facts, wanted, base)
    under = laid.under if laid else now
    noted = Laid(facts.path, wanted.owner, now, under, wanted.role, base)
    if now is not None and now.digest == wanted.content.digest:
        return NOTHING if noted == laid else Decision(noted)
    is_the_users = facts.is_changed and laid is not None and not wanted.role
    keep = None
    if now is not None and (wanted.keeps_copy or is_the_users):
        keep = Keep(wanted.returns, laid.base if laid and wanted.returns else None)
    return Decision(
        Lay(
            path=facts.path,
            found=facts.found,
            after=wanted.content,
            owner=wanted.owner,
            under=under,
            source=wanted.source,
            role=wanted.role,
            base=base,
            keep=keep,
            returns="" if keep else wanted.returns,
        )
    )


def _stays_the_users(facts: PathFacts, wanted: WantedFile, base: Digest | None) -> Decision:
    """Row 14: the user changed this file, or had it before the release came."""
    laid = facts.laid
    if laid is None or laid.owner == wanted.owner:
        return Decision(left_alone=STAYS_YOURS)
    # Noted as it was laid, so that it is known as changed until the user says otherwise.
    noted = Laid(facts.path, wanted.owner, laid.content, laid.under, wanted.role, base)
    return Decision(noted, left_alone=STAYS_YOURS)
