"""What goes wrong with a patch."""

from __future__ import annotations

from rellum.core.errors import UserError


class PatchFault(UserError):
    """A patch cannot be read, or does not fit the file that it is for."""

    code = "patch-fault"
