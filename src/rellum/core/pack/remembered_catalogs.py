"""Where a pack's catalogs were when they were read last, without reading rellum.toml once more."""

from __future__ import annotations

import json
import os
from typing import Final

from rellum.core.pack.home import PACK_FILE, PackHome
from rellum.core.pack.remembered import Mark, mark_of, recall, remember

CATALOG_VARIABLE: Final = "RELLUM_CATALOG"
_QUESTION: Final = "catalogs"


def beside(home: PackHome) -> tuple[str, ...]:
    """Return the folders in which a catalog is looked for where nothing names one, the first first."""
    above = (home.folder, os.path.dirname(home.folder))
    return tuple(os.path.join(each, "catalog") for each in above)


def from_environment() -> tuple[str, ...]:
    """Return the folders that the environment names."""
    said = os.environ.get(CATALOG_VARIABLE, "")
    return tuple(os.path.abspath(each) for each in said.split(os.pathsep)) if said else ()


def recall_catalogs(home: PackHome) -> tuple[str, ...] | None:
    """Return a pack's catalog folders, if what says so has not changed since."""
    told = recall(home, _QUESTION, _mark(home))
    return None if told is None else tuple(json.loads(told))


def remember_catalogs(home: PackHome, folders: tuple[str, ...]) -> None:
    """Remember a pack's catalog folders."""
    remember(home, _QUESTION, _mark(home), json.dumps(folders))


def _mark(home: PackHome) -> Mark:
    file = os.path.join(home.folder, PACK_FILE)
    return mark_of([file], from_environment(), [os.path.isdir(each) for each in beside(home)])
