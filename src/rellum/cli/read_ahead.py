"""Reading a large game folder while the interface is still being imported.

Measured on 100,000 files and two cores: `check` takes a third longer without it (benchmarks, case `check`).
This is the one place that looks at the words of the call before Typer does.
"""

from __future__ import annotations

import os
from collections.abc import Sequence


def read_ahead(words: Sequence[str]) -> None:
    """Let another process begin to read, where the call is a ``check``."""
    if words[:1] != ["check"]:
        return
    from rellum.core.folder.ahead_process import begin

    begin(os.path.join(_pack_of(words), ".rellum", "state.db"))


def _pack_of(words: Sequence[str]) -> str:
    """Return the pack's folder that the call names, as Typer will read it."""
    folder = "."
    for word, following in zip(words, [*words[1:], ""], strict=True):
        if word == "--pack":
            folder = following
        elif word.startswith("--pack="):
            folder = word.removeprefix("--pack=")
    return folder
