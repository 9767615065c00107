"""What tests share: small worlds of real files in a temporary folder, and the built program."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import shutil
import stat
import subprocess
import sys
import tempfile
import unittest
import zipfile
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from unittest import mock

from rellum.cli.document_format import schema_file
from rellum.core.actions.change.apply import ApplyResult, apply
from rellum.core.actions.gather.archive_taker import TakeOutcome
from rellum.core.actions.gather.take import take
from rellum.core.actions.match.resolve import ResolveResult, resolve
from rellum.core.actions.match.wants import drop, want
from rellum.core.actions.mend.check import check
from rellum.core.actions.mend.restore import RestoreResult, restore_all
from rellum.core.actions.mend.rewind import RewindResult, make_checkpoint, rewind
from rellum.core.actions.set_up.adopt import AdoptResult, adopt
from rellum.core.change.recover import Recovered
from rellum.core.change.request import Request
from rellum.core.folder.model import Drift
from rellum.core.folder.stamps import MARKER_NAME
from rellum.core.layers.model import Brought, LayerEdit
from rellum.core.layers.target import Members
from rellum.core.pack.checkpoints import Checkpoint
from rellum.core.pack.disk import Disk
from rellum.core.pack.home import PackHome
from rellum.core.pack.open_state import open_state
from rellum.core.values.paths import PlacePath, TargetPath
from tests import forked

SHEET = """\
[game]
id = "fathomline"
name = "Fathomline"
marks = ["@game/version.txt"]
own-files = ["@game/logs/**"]

[places]
mods = "@game/mods"
data = "@game/data"

[[version]]
file = "@game/version.txt"
pattern = '^version: (?P<version>[0-9.]+)$'

[[edition]]
id = "boxed"
file = "@game/version.txt"
pattern = '^edition: boxed$'

[[expansion]]
id = "ice-charts"
file = "@game/expansions/ice.dat"
"""

VANILLA = {
    "version.txt": b"version: 1.6.0\nedition: boxed\n",
    "data/sea.dat": b"vanilla sea\n",
    "data/twin.dat": b"vanilla sea\n",  # the same content at a second path
    "data/cables.dat": b"vanilla cables\n" * 50,
    "expansions/ice.dat": b"ice",
}


def ignore_recovery(_: Recovered) -> None:
    """Hear nothing of a recovery."""


def memory_folder() -> str | None:
    """Return a folder in memory where there is one: the tests flush thousands of times."""
    return "/dev/shm" if os.access("/dev/shm", os.W_OK) else None


def zip_bytes(members: dict[str, bytes], method: int = zipfile.ZIP_DEFLATED) -> bytes:
    """Return a zip with these members, always the same bytes."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", method) as archive:
        for name, content in members.items():
            info = zipfile.ZipInfo(name, date_time=(2024, 5, 1, 12, 0, 0))
            info.compress_type = method
            archive.writestr(info, content)
    return stream.getvalue()


@dataclass(frozen=True)
class Entry:
    """What a snapshot of a tree remembers of one entry."""

    content: bytes | None
    mode: int
    mtime_ns: int


def snapshot(root: str, *, times: bool = False) -> dict[str, Entry]:
    """Return everything under a folder; without ``times`` the times are left out."""
    found: dict[str, Entry] = {}
    for folder, folders, files in os.walk(root):
        for name in folders:
            path = os.path.join(folder, name)
            found[os.path.relpath(path, root) + "/"] = Entry(None, 0, 0)
        for name in files:
            path = os.path.join(folder, name)
            status = os.lstat(path)
            with open(path, "rb") as file:
                content = file.read()
            mtime = status.st_mtime_ns if times else 0
            found[os.path.relpath(path, root)] = Entry(content, stat.S_IMODE(status.st_mode), mtime)
    return found


def without_marker(tree: dict[str, Entry]) -> dict[str, Entry]:
    """Return a snapshot without Rellum's own marker."""
    return {path: entry for path, entry in tree.items() if path != MARKER_NAME}


def write_tree(root: str, files: dict[str, bytes]) -> None:
    """Write files, given by their paths under ``root``."""
    for name, content in files.items():
        path = os.path.join(root, name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(content)


class NoMaker:
    """For layers of which nothing is made."""

    def foresee(self, edits: Iterable[tuple[LayerEdit, Brought | None]]) -> None:
        self.edits = list(edits)

    def edit(self, change: LayerEdit, below: Brought | None, container: Brought | None) -> Brought:
        raise AssertionError(f"nothing is edited here: {change}, {below}, {container}")

    def rebuild(self, container: PlacePath, below: Brought | None, members: Members) -> Brought:
        raise AssertionError(f"no container is here: {container}, {below}, {members}")

    def vanilla(self, pattern: str) -> tuple[PlacePath, ...]:
        raise AssertionError(f"nothing is removed here: {pattern}")

    def is_the_users(self, path: TargetPath) -> bool:
        raise AssertionError(f"nothing is edited here: {path}")


class World:
    """Game, catalog, downloads, shelf and pack in one temporary folder."""

    def __init__(self, root: str, vanilla: dict[str, bytes] | None = None) -> None:
        self.root = root
        self.cards: dict[str, str] = {}
        write_tree(self.path("game"), VANILLA if vanilla is None else vanilla)
        write_tree(self.path("catalog"), {"games/fathomline.toml": SHEET.encode()})
        for name in ("downloads", "shelf", "pack", "catalog/cards"):
            os.makedirs(self.path(name))

    def path(self, *parts: str) -> str:
        return os.path.join(self.root, *parts)

    def change_sheet(self, more: str = "", *, places: str = "", game: str = "") -> None:
        """Let the game sheet say more: tables at the end, places, keys of the game."""
        text = SHEET.replace("[places]\n", f"[places]\n{places}\n")
        text = text.replace("[game]\n", f"[game]\n{game}\n") + more
        write_tree(self.path("catalog"), {"games/fathomline.toml": text.encode()})

    def change_pack(self, more: str) -> None:
        """Let rellum.toml say more."""
        with open(self.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write(more)

    def add_release(
        self,
        mod: str,
        version: str,
        members: dict[str, bytes],
        *,
        says: str = "",
        place: str = 'to = "@game/"',
        archive: bytes | None = None,
    ) -> str:
        """Write the archive of a release and add the release to its mod's card.

        ``archive`` is the archive itself, where it is no plain one of ``members``.
        """
        content = archive if archive is not None else zip_bytes(members)
        name = f"{mod}-{version}.zip"
        write_tree(self.path("downloads"), {name: content})
        head = f'[mod]\nid = "{mod}"\nname = "{mod.title()}"\n'
        self.cards[mod] = self.cards.get(mod, head) + (
            f'\n[[release]]\nversion = "{version}"\n{says}\n'
            f'[[release.file]]\nname = "{name}"\nsize = {len(content)}\n'
            f'sha256 = "{hashlib.sha256(content).hexdigest()}"\n[[release.place]]\n{place}\n'
        )
        write_tree(self.path("catalog", "cards"), {f"{mod}.toml": self.cards[mod].encode()})
        return self.path("downloads", name)

    def adopt(self) -> AdoptResult:
        return adopt(
            Request(pack_folder=self.path("pack"), shelf_folder=self.path("shelf")),
            self.path("game"),
        )

    def take_all(self) -> tuple[TakeOutcome, ...]:
        folder = self.path("downloads")
        names = sorted(os.listdir(folder))
        archives = [os.path.join(folder, name) for name in names]
        return take(
            Request(pack_folder=self.path("pack"), shelf_folder=self.path("shelf")), archives
        )

    def want(self, mod: str, range_text: str = "*") -> None:
        want(Request(pack_folder=self.path("pack")), [f"{mod}@{range_text}"])

    def drop(self, mod: str) -> None:
        drop(Request(pack_folder=self.path("pack")), mod)

    def resolve(self, *, fresh: bool = False, mods: tuple[str, ...] = ()) -> ResolveResult:
        pack, shelf = self.path("pack"), self.path("shelf")
        return resolve(
            Request(pack_folder=pack, shelf_folder=shelf, on_recovered=ignore_recovery),
            fresh=fresh,
            fresh_mods=mods,
        )

    def apply(self, disk: Disk | None = None) -> ApplyResult:
        shelf = self.path("shelf")
        return apply(
            Request(
                pack_folder=self.path("pack"),
                shelf_folder=shelf,
                on_recovered=ignore_recovery,
                disk=disk,
            ),
            lambda _: True,
        )

    def restore_all(self, disk: Disk | None = None, *, source: str = "") -> RestoreResult:
        return restore_all(
            Request(pack_folder=self.path("pack"), on_recovered=ignore_recovery, disk=disk),
            lambda _: True,
            source,
        )

    def rewind(
        self, name: str = "", *, good: bool = False, disk: Disk | None = None, source: str = ""
    ) -> RewindResult:
        pack = self.path("pack")
        return rewind(
            Request(pack_folder=pack, on_recovered=ignore_recovery, disk=disk),
            name,
            good,
            lambda _: True,
            source,
        )

    def checkpoint(self, name: str = "", *, good: bool = False) -> Checkpoint:
        return make_checkpoint(
            Request(pack_folder=self.path("pack"), on_recovered=ignore_recovery), name, good
        ).checkpoint

    def check(self, *, deep: bool = False) -> Drift:
        return check(
            Request(pack_folder=self.path("pack"), on_recovered=ignore_recovery), deep=deep
        )

    def game(self, *, times: bool = False) -> dict[str, Entry]:
        """Return the game folder; and what the player has elsewhere, as ``outside/…``."""
        player = snapshot(self.path("player"), times=times)
        outside = {f"outside/{path}": entry for path, entry in player.items()}
        return snapshot(self.path("game"), times=times) | outside

    def write_game(self, name: str, content: bytes) -> None:
        write_tree(self.path("game"), {name: content})

    def run(self, *arguments: str, stdin: str | None = None) -> subprocess.CompletedProcess[str]:
        """Run the built program in the pack's folder, as a user would."""
        return run_rellum(*arguments, cwd=self.path("pack"), shelf=self.path("shelf"), stdin=stdin)


def at_terminal(words: Sequence[str], typed: str, cwd: str, **more: str) -> tuple[int, str]:
    """Run the program in a terminal, type all answers, and return its status and what was shown.

    ``more`` is put into its environment. Not on Windows.
    """
    import pty

    child, terminal = pty.fork()
    if child == 0:
        os.chdir(cwd)
        os.environ.update(more, COLUMNS="100")
        os.execv(sys.executable, [sys.executable, "-m", "rellum", *words])
    os.write(terminal, typed.encode())
    shown = b""
    with contextlib.suppress(OSError):
        while piece := os.read(terminal, 4096):
            shown += piece
    os.close(terminal)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), shown.decode()


def run_rellum(
    *arguments: str, cwd: str, shelf: str, stdin: str | None = None
) -> subprocess.CompletedProcess[str]:
    """Run the built program; its output is text."""
    environment = {**os.environ, "RELLUM_SHELF": shelf, "PYTHONUTF8": "1"}
    done = forked.run(arguments, cwd, environment, stdin or "")
    if "--json" in arguments:
        check_document(arguments[0], done.stdout)
    return done


def read_document(text: str) -> Any:
    """Return what a JSON document says, with paths of the game as people see them."""
    return _plain(json.loads(text))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(each) for key, each in value.items()}
    if isinstance(value, list):
        return list(map(_plain, value))
    return value.removeprefix("@game/") if isinstance(value, str) else value


def check_document(command: str, text: str) -> None:
    """Hold what a command printed with ``--json`` against the schema that Rellum ships."""
    import jsonschema

    with open(schema_file(command), encoding="utf-8") as file:
        jsonschema.validate(json.loads(text), json.load(file))


class WorldTest(unittest.TestCase):
    """A test with a world of its own."""

    def setUp(self) -> None:
        root = os.path.realpath(tempfile.mkdtemp(prefix="rellum-test-", dir=memory_folder()))
        self.addCleanup(shutil.rmtree, root)
        own = {"RELLUM_CACHE": os.path.join(root, "cache"), "HOME": os.path.join(root, "home")}
        self.enterContext(mock.patch.dict(os.environ, own))  # never the home of whoever runs this
        self.world = World(root)

    def make_resolved(self) -> None:
        """Adopt, take everything, want every mod and resolve."""
        self.world.adopt()
        self.world.take_all()
        for mod in self.world.cards:
            self.world.want(mod)
        self.world.resolve()

    def make_applied(self) -> None:
        """Do all that, and apply."""
        self.make_resolved()
        self.world.apply()

    def assert_store_holds_what_is_needed(self) -> None:
        """The store of originals holds what the state needs, and nothing beside it."""
        home = PackHome(self.world.path("pack"))
        state = open_state(home)
        self.addCleanup(state.close)
        os.makedirs(home.originals_folder, exist_ok=True)
        there = set(os.listdir(home.originals_folder))
        self.assertLessEqual(there, set(state.needed_counts()))
