"""Links in archives: what they give is what the system's own links give."""

from __future__ import annotations

import io
import os
import shutil
import stat
import subprocess
import tarfile
import tempfile
import unittest
import zipfile

from hypothesis import example, given, settings
from hypothesis import strategies as st

from rellum.core.archives.model import Archive, ArchiveFault, Extraction
from rellum.core.archives.open import open_archive
from tests.support import WorldTest, zip_bytes

NAMES = st.sampled_from(["a", "b", "d/a", "d/b", "d/e/c"])
TARGETS = st.sampled_from(
    [
        "a",
        "b",
        "d",
        ".",
        "..",
        "../a",
        "d/a",
        "d/e",
        "e",
        "e/c",
        "../d/b",
        "d/../b",
        "/a",
        "nowhere",
    ]
)


def read_by_system(top: str) -> dict[str, bytes] | None:
    """Return every file as the system sees it through links; None where a link leads out or nowhere."""
    found: dict[str, bytes] = {}

    def walk(folder: str, shown: str, above: tuple[str, ...]) -> bool:
        real = os.path.realpath(folder)
        if real in above:
            return False
        for entry in list(os.scandir(folder)):
            name = f"{shown}/{entry.name}" if shown else entry.name
            if entry.is_symlink():
                inside = os.path.realpath(entry.path)
                leads_out = inside != top and not inside.startswith(f"{top}/")
                if leads_out or not os.path.exists(entry.path):
                    return False
            if entry.is_dir():
                if not walk(entry.path, name, (*above, real)):
                    return False
                continue
            with open(entry.path, "rb") as file:
                found[name] = file.read()
        return True

    return found if walk(top, "", ()) else None


def read_by_rellum(archive: Archive, folder: str) -> dict[str, bytes]:
    members = archive.check()
    jobs = [
        Extraction(member=m.stored_as, digest=m.digest, target=f"{folder}/{at}", mode=0o600)
        for at, m in enumerate(members)
    ]
    os.makedirs(folder)
    archive.extract(jobs)
    found: dict[str, bytes] = {}
    for at, member in enumerate(members):
        with open(f"{folder}/{at}", "rb") as file:
            found[member.path] = file.read()
    return found


def pack_zip(top: str, path: str) -> None:
    with zipfile.ZipFile(path, "w") as archive:
        for above, folders, files in os.walk(top):
            for name in [*folders, *files]:
                file = os.path.join(above, name)
                info = zipfile.ZipInfo(os.path.relpath(file, top))
                if os.path.islink(file):
                    info.external_attr = (stat.S_IFLNK | 0o777) << 16
                    archive.writestr(info, os.readlink(file))
                elif os.path.isfile(file):
                    archive.write(file, info.filename)


@unittest.skipUnless(os.name == "posix", "other systems make links only for some users")
class LinksTest(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(st.lists(NAMES, min_size=1, max_size=4), st.dictionaries(NAMES, TARGETS, max_size=4))
    @example(["d/a"], {"a": "b", "b": "d"})
    @example(["d/b"], {"d/a": "d/../b"})
    @example(["d/a"], {"d/b": "../a", "a": "d"})
    def test_links_are_what_the_system_makes_of_them(self, files, links) -> None:
        with tempfile.TemporaryDirectory() as folder:
            folder = os.path.realpath(folder)
            top = os.path.join(folder, "top")
            for name in dict.fromkeys(files):
                os.makedirs(os.path.dirname(os.path.join(top, name)), exist_ok=True)
                with open(os.path.join(top, name), "w", encoding="utf-8") as file:
                    file.write(f"content of {name}")
            for name, target in links.items():
                path = os.path.join(top, name)
                if not os.path.lexists(path) and os.path.isdir(os.path.dirname(path)):
                    os.symlink(target, path)
            wanted = read_by_system(top)
            with tarfile.open(f"{folder}/t.tar", "w") as tar:
                tar.add(top, arcname=".")
            pack_zip(top, f"{folder}/z.zip")
            for name in ("t.tar", "z.zip"):
                try:
                    found = read_by_rellum(open_archive(f"{folder}/{name}"), f"{folder}/of-{name}")
                except ArchiveFault:
                    self.assertIsNone(wanted, name)
                else:
                    self.assertEqual(found, wanted, name)

    def test_other_kinds(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            top = os.path.join(folder, "top")
            os.makedirs(os.path.join(top, "d"))
            with open(os.path.join(top, "d", "one"), "wb") as file:
                file.write(b"one")
            os.link(os.path.join(top, "d", "one"), os.path.join(top, "hard"))
            os.symlink("d/one", os.path.join(top, "soft"))
            made = {"hard.tar": ["tar", "cf", "../hard.tar", "."]}
            if shutil.which("7z"):
                made["soft.7z"] = ["7z", "a", "-bd", "-snl", "../soft.7z", "."]
            for name, command in made.items():
                subprocess.run(command, cwd=top, check=True, stdout=subprocess.DEVNULL)
                found = read_by_rellum(
                    open_archive(os.path.join(folder, name)), os.path.join(folder, f"of-{name}")
                )
                self.assertEqual(found, dict.fromkeys(("d/one", "hard", "soft"), b"one"), name)

    def test_a_long_chain_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            with tarfile.open(f"{folder}/t.tar", "w") as tar:
                for number in range(60):
                    info = tarfile.TarInfo(f"n{number}")
                    info.type, info.linkname = tarfile.SYMTYPE, f"n{number + 1}"
                    tar.addfile(info)
                tar.addfile(tarfile.TarInfo("n60"))
            with self.assertRaisesRegex(ArchiveFault, "through more than 40 links"):
                open_archive(f"{folder}/t.tar").check()


@unittest.skipUnless(os.name == "posix", "other systems make links only for some users")
class LaidLinksTest(WorldTest):
    def test_they_are_laid_and_said(self) -> None:
        stream = io.BytesIO(zip_bytes({"x.dat": b"x"}))
        with zipfile.ZipFile(stream, "a") as archive:
            info = zipfile.ZipInfo("same.dat")
            info.external_attr = (stat.S_IFLNK | 0o777) << 16
            archive.writestr(info, "x.dat")
        self.world.add_release("tides", "1.0", {}, archive=stream.getvalue())
        self.world.adopt()
        (taken,) = self.world.take_all()
        self.assertEqual(taken.copies, 1)
        self.world.want("tides")
        self.world.resolve()
        said = "tides-1.0.zip: a link in it becomes a copy of its target"
        notes = [(str(owner), note) for owner, note in self.world.apply().preview.notes]
        self.assertIn(("tides 1.0", said), notes)
        self.assertEqual(self.world.game()["same.dat"].content, b"x")
        self.assertEqual(self.world.check(deep=True).findings, ())
