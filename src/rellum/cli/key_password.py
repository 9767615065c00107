"""The password of a feed's keys: from the environment, or asked for once."""

from __future__ import annotations

import os
import sys
from functools import lru_cache

from rellum.cli import console
from rellum.core.feed.feed_keys import Password

VARIABLE = "RELLUM_KEY_PASSWORD"


def key_folder_of(stated: str) -> str:
    """Return the folder of the keys: as stated, else in the user's own data folder."""
    import platformdirs

    own = os.path.join(platformdirs.user_data_dir("rellum", appauthor=False), "feed-keys")
    return os.path.abspath(stated or own)


def password_of() -> Password:
    """Return what gives the password; it is asked for once, and never shown."""

    @lru_cache(maxsize=1)
    def once() -> str:
        if said := os.environ.get(VARIABLE):
            return said
        if not sys.stdin.isatty() or console.wants_json():
            raise console.BadCall(
                "the feed's keys have a password, and nobody can be asked for it",
                hint=f"Give it in the variable {VARIABLE}.",
            )
        import getpass

        return getpass.getpass("Password of the feed's keys: ")

    return lambda _: once()
