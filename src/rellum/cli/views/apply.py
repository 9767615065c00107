"""What ``rellum apply`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rellum.cli import console

if TYPE_CHECKING:
    from rellum.cli.documents.change import ApplyDocument
    from rellum.core.actions.change.apply import ApplyResult
    from rellum.core.composing.settling import SettingsConflict
    from rellum.core.layers.wrappers import Depth, SameName
    from rellum.core.patching.merge import Side


def who_wins(conflict: SettingsConflict) -> Side | None:
    """Let the user say on the terminal whose settings win; None where nobody is there."""
    from rellum.cli.views.preview import conflict_lines
    from rellum.core.values.paths import shown

    console.clear_progress()
    question = f"{shown(conflict.path)}: you and {conflict.whose} changed the same settings."
    said = console.choose("\n".join([question, *conflict_lines(conflict)]), ("mine", "theirs"))
    return None if said is None else "mine" if said == "mine" else "theirs"


def how_deep(found: SameName) -> Depth | None:
    """Let the user say whether a folder is one too many; None where nobody is there."""
    from rellum.core.values.paths import shown

    console.clear_progress()
    once = f"{shown(found.to)}/"
    question = (
        f"All files of {found.archive} lie in its folder {found.folder}, and its card puts that into {once}. "
        "Where do they belong?"
    )
    said = console.choose(question, (once, f"{once}{found.folder}"))
    return None if said is None else "once" if said == once else "twice"


def document(result: ApplyResult) -> ApplyDocument:
    """Return what was applied, for programs."""
    from rellum.cli.documents.shared import change_document, release_document

    preview = result.preview
    rebase = preview.rebase
    return {
        **change_document(preview.plan, done=result.done),
        "releases": [release_document(each.name) for each in preview.lock.releases],
        "game_version": (rebase.now.version if rebase else preview.lock.game_version).text,
        "swept_to": preview.plan.swept_to or None,
    }
