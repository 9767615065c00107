"""Where the files of a pack lie."""

import os
from typing import NamedTuple

from rellum.core.errors import UserError
from rellum.core.values.paths import refuse_no_text

PACK_FILE = "rellum.toml"
LOCK_FILE = "rellum.lock"
TRIALS_FILE = "trials.toml"
STATE_FOLDER = ".rellum"
MAIN = "main"
"""The variant of a pack that names none."""


class NoPack(UserError):
    """The folder holds no pack, or one that has not adopted a game yet."""

    code = "no-pack"


class PackHome(NamedTuple):
    """The pack's folder, absolute, and the paths in it.

    ``texts_folder``: where other texts of rellum.toml and rellum.lock are read from, those of a checkpoint.
    """

    folder: str
    texts_folder: str = ""

    @property
    def pack_file(self) -> str:
        """``rellum.toml``: wants and holds, written by hand or by commands."""
        return os.path.join(self.texts_folder or self.folder, PACK_FILE)

    @property
    def lock_file(self) -> str:
        """``rellum.lock``: the line-up."""
        return os.path.join(self.texts_folder or self.folder, LOCK_FILE)

    @property
    def trials_file(self) -> str:
        """``trials.toml``: outcomes that were recorded."""
        return os.path.join(self.folder, TRIALS_FILE)

    @property
    def own_catalog(self) -> str:
        """``own-mods``: a catalog with cards of what was absorbed, whose archives nobody else has."""
        return os.path.join(self.folder, "own-mods")

    @property
    def state_folder(self) -> str:
        """``.rellum``: everything Rellum remembers; not to be edited."""
        return os.path.join(self.folder, STATE_FOLDER)

    @property
    def state_file(self) -> str:
        """The SQLite database of the state."""
        return os.path.join(self.state_folder, "state.db")

    @property
    def vanilla_file(self) -> str:
        """A second copy of the baseline, for the day on which the database is lost."""
        return os.path.join(self.state_folder, "vanilla.json.gz")

    @property
    def journal_file(self) -> str:
        """The journal of a change that is under way; not there otherwise."""
        return os.path.join(self.state_folder, "journal")

    @property
    def originals_folder(self) -> str:
        """The store of what layers displaced, by content."""
        return os.path.join(self.state_folder, "originals")

    @property
    def waiting_store(self) -> str:
        """The store of originals during the rebuild of a lost state; not there otherwise."""
        return self.originals_folder + "-waiting"

    @property
    def swept_folder(self) -> str:
        """Where what was swept out of the game lies, in a folder for each sweep."""
        return os.path.join(self.folder, "swept")

    @property
    def backups_folder(self) -> str:
        """Saves, worlds and settings, kept by content."""
        return os.path.join(self.state_folder, "backups")

    @property
    def work_folder(self) -> str:
        """Where files are made; not there between commands."""
        return os.path.join(self.state_folder, "work")

    @property
    def process_lock_file(self) -> str:
        """What one process at a time holds."""
        return os.path.join(self.state_folder, "process-lock")


def read_text(path: str) -> str | None:
    """Return a text of the pack's, None where there is none. Raises OSError."""
    try:
        with open(path, encoding="utf-8", errors="surrogateescape", newline="") as file:
            return file.read()
    except FileNotFoundError:
        return None


def write_text(path: str, text: str) -> None:
    """Write a text as ``read_text`` reads it. Raises OSError."""
    with open(path, "w", encoding="utf-8", errors="surrogateescape", newline="") as file:
        file.write(text)


def pack_texts(home: PackHome) -> tuple[tuple[str, str], ...]:
    """Return rellum.toml and rellum.lock as they stand, by name. Raises OSError."""
    found = ((name, read_text(os.path.join(home.folder, name))) for name in (PACK_FILE, LOCK_FILE))
    return tuple((name, text) for name, text in found if text is not None)


def pack_home(folder: str) -> PackHome:
    """Return the home of the pack in a folder. Raises NoPack, UnsafePath."""
    home = PackHome(os.path.abspath(folder))
    refuse_no_text(home.folder, "the pack")
    if not os.path.isfile(home.pack_file):
        raise NoPack(
            f"there is no {PACK_FILE} in {home.folder}",
            hint="Go to the pack's folder, name it with --pack, or start with 'rellum adopt GAME'.",
        )
    return home
