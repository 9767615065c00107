"""Small texts made from choices: ``${option.quality}``, and lines kept by ``${if NAME = VALUE}``.

That is the whole form: a name in ``${…}`` stands for its value; lines between a line
``${if NAME = VALUE}`` (or ``!=``) and a line ``${end}`` are kept where that holds. Nothing nests.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from rellum.core.errors import UserError
from rellum.core.nearest import nearest

Values = Mapping[str, str]

_IF = re.compile(r"\s*\$\{if ([^}=!]+?) *(!?=) *([^}]*?)\}\s*\Z")
_END = re.compile(r"\s*\$\{end\}\s*\Z")
_NAME = re.compile(r"\$\{([^}]*)\}")


class TextFault(UserError):
    """A text of a card cannot be filled in."""

    code = "text-fault"


def fill_text(text: str, values: Values, where: str) -> str:
    """Return a text with its conditions decided and its names filled in.

    Raises TextFault; ``where`` is the card's line.
    """
    lines = []
    keeps, is_inside = True, False
    for line in text.splitlines(keepends=True):
        if found := _IF.match(line):
            if is_inside:
                raise TextFault(f"{where}: a condition stands inside another: {line.strip()}")
            is_inside = True
            keeps = (_value(found[1].strip(), values, where) == found[3]) == (found[2] == "=")
        elif _END.match(line):
            if not is_inside:
                raise TextFault(f"{where}: ${{end}} without a condition before it")
            keeps, is_inside = True, False
        elif keeps:
            lines.append(fill_names(line, values, where))
    if is_inside:
        raise TextFault(f"{where}: a condition has no ${{end}}")
    return "".join(lines)


def fill_names(text: str, values: Values, where: str) -> str:
    """Return a text with its names filled in. Raises TextFault."""
    return _NAME.sub(lambda found: _value(found[1], values, where), text)


def _value(name: str, values: Values, where: str) -> str:
    if name not in values:
        raise TextFault(
            f"{where}: {name!r} is no name that stands for something" + nearest(name, values),
            details=(f"there are {', '.join(sorted(values))}",),
            hint="Correct the text in the card.",
        )
    return values[name]
