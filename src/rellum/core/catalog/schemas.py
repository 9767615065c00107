"""JSON Schemas (draft 2020-12) of sheet, card, trials and pack, with which editors check and complete them.

They are made by ``python -m tools.schemas`` from the functions that read these files.
"""

from __future__ import annotations

import os
import shutil
from typing import Final

SCHEMA_NAMES: Final = ("sheet", "card", "trials", "pack")


def schema_file(name: str) -> str:
    """Return the file of a schema in the package."""
    return os.path.join(os.path.dirname(__file__), "schema_files", f"{name}.json")


def schema_line(path: str) -> str:
    """Return the first line of a TOML file that names its schema; ``path`` counts from the file's folder."""
    return f"#:schema {path}"


def lay_schemas(folder: str, names: tuple[str, ...] = SCHEMA_NAMES) -> None:
    """Put schemas into a folder, where those of another Rellum may be. Raises OSError."""
    os.makedirs(folder, exist_ok=True)
    for name in names:
        shutil.copyfile(schema_file(name), os.path.join(folder, f"{name}.json"))
