"""How archives of a game's mods are pressed: ``[press]`` of its sheet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from rellum.core.catalog.tables import TableReader
from rellum.core.values.paths import fault_in_name

ZIP: Final = ".zip"


@dataclass(frozen=True, slots=True, kw_only=True)
class PressRules:
    """The ending of pressed archives, and patterns of what stays out of them beside scratch files.

    A pattern without a slash is for names, wherever they lie.
    """

    ending: str = ZIP
    leave_out: tuple[str, ...] = ()


PLAIN: Final = PressRules()


def read_press_rules(root: TableReader) -> PressRules:
    """Read ``[press]``, noting every fault."""
    if "press" not in root:
        return PLAIN
    reader = root.table("press")
    ending = reader.text("ending", ZIP) or ZIP
    if not ending.startswith(".") or fault_in_name(f"mod{ending}"):
        reader.fault(f'{ending!r} is no ending of a file name; write e.g. ".zip"', "ending")
    leave_out = reader.texts("leave-out", "*.psd")
    reader.finish()
    return PressRules(ending=ending, leave_out=leave_out)
