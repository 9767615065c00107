"""The shelf's folder on this machine."""

from __future__ import annotations

import os


def shelf_folder() -> str:
    """Return the user's shelf: ``RELLUM_SHELF``, or the user's data folder."""
    named = os.environ.get("RELLUM_SHELF")
    if named:
        return os.path.abspath(named)
    import platformdirs

    return platformdirs.user_data_path("rellum", appauthor=False).joinpath("shelf").as_posix()
