"""Which files of a catalog folder are read to choose releases."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from typing import Final

TRIALS: Final = "trials.toml"
_KINDS: Final = ("games", "cards")


def toml_names(folder: str, kind: str) -> list[str]:
    """Return the TOML files of one kind in a catalog folder, sorted; none where there is no such folder."""
    try:
        names = sorted(os.listdir(os.path.join(folder, kind)))
    except OSError:
        return []
    return [os.path.join(folder, kind, name) for name in names if name.endswith(".toml")]


def files_read(folders: Iterable[str]) -> Iterator[str]:
    """Yield the sheets, cards and trials in catalog folders."""
    for folder in folders:
        for kind in _KINDS:
            yield from toml_names(folder, kind)
        yield os.path.join(folder, TRIALS)
