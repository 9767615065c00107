"""What the game in the folder is now, which its own updates change without asking."""

from __future__ import annotations

from rellum.core.catalog.model import GameSheet
from rellum.core.folder.detection import identify_now
from rellum.core.folder.identity import Identity
from rellum.core.pack.session import Session


def identity_of(opened: Session, sheet: GameSheet, *, anything: bool = False) -> Identity:
    """Return what the sheet's rules say of the folder, where that is an update of what was adopted.

    ``anything``: whatever they say counts, also that an expansion is gone. They say nothing where a mod lies
    over a file that they read.
    """
    rules = (*sheet.version_rules, *sheet.edition_rules, *sheet.expansion_rules)
    adopted = opened.state.identity()
    if opened.state.laid([rule.file for rule in rules]):
        return adopted
    now = identify_now(sheet, opened.roots)
    return now if now and (anything or now.has_moved_on_from(adopted)) else adopted
