"""What ``rellum why`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.match import WhyDocument
    from rellum.cli.documents.shared import ReleaseDocument
    from rellum.core.actions.match.why import ReleaseAnswer, WhyAnswer
    from rellum.core.catalog.model import Release


MOST_RELEASES = 6
MOST_STATEMENTS = 20
"""Of more only those are shown that speak of the release itself."""


def show_list(heading: str, statements: Any) -> None:
    from rellum.core.composing.line_up import with_place

    if statements:
        console.say()
        console.say(console.styled(heading, "dim"))
        for each in statements:
            console.say_indented(with_place(each))


def answers(answer: WhyAnswer, *, every: bool) -> None:
    from rellum.core.composing.line_up import with_place

    shown = answer.answers if every else answer.answers[:MOST_RELEASES]
    if not answer.answers and answer.chosen is not None:
        console.say()
        console.say("It is the newest release.")
    for each in shown:
        console.say()
        console.say(f"{console.styled(each.release.name, 'bold')}: {_verdict(each)}")
        is_told = each.statements is not None and (every or len(each.statements) <= MOST_STATEMENTS)
        for statement in (each.statements or ()) if is_told else each.direct[:MOST_STATEMENTS]:
            console.say_indented(with_place(statement))
        if not is_told:
            console.say_indented(_where_told(answer, each))
    if len(answer.answers) > len(shown):
        console.say()
        console.say(f"… and {len(answer.answers) - len(shown)} more (--full lists every release)")


def _where_told(answer: WhyAnswer, each: ReleaseAnswer) -> str:
    command = f"rellum why {answer.mod} {each.release.version.text}"
    if each.statements is None:
        return f"What leads to that: {command}"
    return f"That follows from {len(each.statements)} statements: {command} --full"


def _verdict(answer: ReleaseAnswer) -> str:
    if answer.outcome.reason is not None:
        return f"cannot be taken: {answer.brief}"
    if answer.outcome.is_free:
        return "can be taken, and nothing else would change"
    return f"can be taken, but {answer.brief}"


def document(answer: WhyAnswer) -> WhyDocument:
    from rellum.cli.documents.shared import release_document, statement_document

    chosen = answer.chosen
    return {
        "mod": answer.mod,
        "chosen": release_document(chosen.name) if chosen else None,
        "asked_by": [statement_document(each) for each in answer.asked_by],
        "fixed_by": [statement_document(each) for each in answer.fixed_by],
        "releases": [
            {
                "release": _release(each.release),
                "can_be_taken": each.outcome.reason is None,
                "brief": each.brief,
                "changes": [
                    {
                        "mod": change.mod,
                        "version_before": change.before.version.text if change.before else None,
                        "version": change.after.version.text if change.after else None,
                    }
                    for change in each.outcome.changes
                ],
                "statements": [statement_document(one) for one in each.statements or ()],
            }
            for each in answer.answers
        ],
    }


def _release(release: Release) -> ReleaseDocument:
    return {
        "mod": release.mod,
        "version": release.version.text,
        "build": release.build or None,
    }
