"""What patches share: settings as values, and what goes wrong."""

from __future__ import annotations

from typing import Literal

from rellum.core.errors import UserError

SettingsForm = Literal["ini", "ini-exact", "properties", "json", "toml"]
"""How a settings file is written."""
Value = str | int | float | bool
Setting = tuple[tuple[str, ...], Value | None]
"""A key, with the sections that it lies in, and its value; None: it goes."""


class PatchFault(UserError):
    """A patch cannot be read, or does not fit the file that it is for."""

    code = "patch-fault"
