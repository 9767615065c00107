"""What the JSON documents of the commands hold, and the forms that they share.

Keys keep their names and meaning within a ``format``; new ones may come. A release, the game, sizes
(``bytes``), counts (``…_count``), times (RFC 3339 in UTC) and paths (place paths) have one form in all.
``tools/schemas.py`` makes the JSON Schemas of ``src/rellum/schemas`` from these types.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

from rellum.core.values.ids import ReleaseName

if TYPE_CHECKING:
    from rellum.core.change.operations import Operation
    from rellum.core.change.plan import Plan
    from rellum.core.folder.identity import Identity
    from rellum.core.solving.problem import Statement
    from rellum.core.values.owners import Owner


class ReleaseDocument(TypedDict):
    """A release; ``build`` where there are several of one version."""

    mod: str
    version: str
    build: str | None


class GameDocument(TypedDict):
    """What a game is: the id of its sheet, version, edition where there are several, expansions."""

    sheet: str
    version: str
    edition: str | None
    expansions: list[str]


class OwnerDocument(TypedDict):
    """Whose a file is: ``kind`` is release, vanilla, rellum, foreign or load-order."""

    kind: str
    release: ReleaseDocument | None


class StatementDocument(TypedDict):
    """What a card, rellum.toml or a trial says, and where (``file:line``)."""

    text: str
    place: str | None


class MembersDocument(TypedDict):
    """What becomes of the members of a container."""

    added: list[str]
    replaced: list[str]
    removed: list[str]
    dropped: list[str]


class OperationDocument(TypedDict):
    """What is done at one path; ``owner`` is whose it is afterwards."""

    path: str
    effect: str
    bytes: int
    owner: OwnerDocument | None
    owner_before: OwnerDocument | None
    blake3: str | None
    keeps_copy: bool
    members: MembersDocument | None


class LeftAloneDocument(TypedDict):
    path: str
    reason: str


class ChangeDocument(TypedDict):
    """What a command did to the game; ``done`` is false where the answer was no."""

    done: bool
    changed_count: int
    operations: list[OperationDocument]
    left_alone: list[LeftAloneDocument]


class RemedyDocument(TypedDict):
    kind: str
    text: str
    command: str | None


class NoLineUpDocument(TypedDict, total=False):
    """What an error says beside, where no line-up exists."""

    statements: list[StatementDocument]
    wants: list[str]
    is_minimal: bool
    is_shortest: bool
    impossible_alone: list[str]
    other_reason_count: int | None
    remedies: list[RemedyDocument]


class ErrorTextDocument(NoLineUpDocument):
    """An error: its stable code, what is wrong, details a line each, what to do, the exit status."""

    code: str
    summary: str
    details: list[str]
    hint: str
    status: int


class ErrorDocument(TypedDict):
    """What any command gives instead, if it ends with an error."""

    error: ErrorTextDocument


def release_document(name: ReleaseName) -> ReleaseDocument:
    """Return a release for programs."""
    return {"mod": name.mod, "version": name.version, "build": name.build or None}


def game_document(identity: Identity) -> GameDocument:
    """Return what a game is, for programs."""
    return {
        "sheet": identity.sheet,
        "version": identity.version.text,
        "edition": identity.edition,
        "expansions": list(identity.expansions),
    }


def release_of_mod(mod: str, label: str) -> ReleaseDocument:
    """Return a release by its mod and label (``3.2`` or ``3.2 (harbour)``) for programs."""
    version, _, build = label.partition(" (")
    return {"mod": mod, "version": version, "build": build.removesuffix(")") or None}


def owner_document(owner: Owner | None) -> OwnerDocument | None:
    """Return whose a file is, for programs."""
    if owner is None:
        return None
    if isinstance(owner, ReleaseName):
        return {"kind": "release", "release": release_document(owner)}
    return {"kind": str(owner), "release": None}


def statement_document(statement: Statement) -> StatementDocument:
    """Return a statement for programs."""
    from rellum.core.catalog.toml_lines import place_of

    place = place_of(statement.source) if statement.source else None
    return {"text": statement.text, "place": place}


def operation_document(each: Operation) -> OperationDocument:
    """Return an operation of a plan for programs."""
    from rellum.cli.views.plans import bytes_of, rebuilt_of

    made = rebuilt_of(each)
    return {
        "path": each.path,
        "effect": each.effect,
        "bytes": bytes_of(each),
        "owner": owner_document(each.owner),
        "owner_before": owner_document(each.found.owner) if each.found.content else None,
        "blake3": each.after.digest if each.after else None,
        "keeps_copy": each.keep is not None,
        "members": {
            "added": list(made.added),
            "replaced": list(made.replaced),
            "removed": list(made.removed),
            "dropped": list(made.dropped),
        }
        if made
        else None,
    }


def left_alone_document(plan: Plan) -> list[LeftAloneDocument]:
    """Return what a plan leaves alone, for programs."""
    return [{"path": path, "reason": why} for path, why in plan.left_alone]


def change_document(plan: Plan, *, done: bool) -> ChangeDocument:
    """Return what came of a plan, for programs."""
    operations = [operation_document(each) for each in plan.visible] if done else []
    return {
        "done": done,
        "changed_count": len(operations),
        "operations": operations,
        "left_alone": left_alone_document(plan),
    }
