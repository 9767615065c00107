"""Archives made by the real tools, hostile ones made by hand: all kinds, one behaviour."""

from __future__ import annotations

import gzip
import io
import os
import shutil
import struct
import subprocess
import tarfile
import tempfile
import unittest
import zlib
from collections.abc import Callable
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.archives.forms import FORMS, ArchiveForm
from rellum.core.archives.model import (
    ArchiveFault,
    ContentMismatch,
    Extraction,
    Limits,
    NotAnArchive,
)
from rellum.core.archives.open import open_archive
from rellum.core.errors import UserError
from rellum.core.hashing import hash_bytes
from rellum.core.layers.placing import inner_archives
from tests.support import write_tree, zip_bytes

MEMBERS = {
    "read me.txt": b"how to lay it\n",
    "Tides/tides.dat": b"tide " * 40_000,
    "Tides/charts/neap.dat": bytes(range(256)) * 300,
    "Tides/empty.dat": b"",
}
SAMPLES = {
    "zip": "zip -qr ../sample.zip .",
    "7z": "7z a -bd ../sample.7z .",
    "tar": "tar cf ../sample.tar .",
    "tar.gz": "tar c . | gzip > ../sample.tar.gz",
    "tar.bz2": "tar c . | bzip2 > ../sample.tar.bz2",
    "tar.xz": "tar c . | xz > ../sample.tar.xz",
    "tar.zst": "tar c . | zstd -q - > ../sample.tar.zst",
}
"""How a tool makes an archive of each form, under the first of its endings. A new form needs a row here."""

BY_HAND = {"rar", "file"}
"""Forms that no free tool writes, or that are no archive; they have tests of their own."""

RAR = b"Rar!\x1a\x07\x01\x00"


def rar_block(kind: int, flags: int, body: bytes, data: bytes = b"") -> bytes:
    """Return a block of a rar of version 5; sizes below 128, so that each number is one byte."""
    head = bytes([kind, flags]) + body
    counted = bytes([len(head)]) + head
    return struct.pack("<L", zlib.crc32(counted)) + counted + data


def stored_rar(members: dict[str, bytes]) -> bytes:
    """Return a rar whose members are stored: enough to see that an extractor is asked."""
    content = RAR + rar_block(1, 0, b"\x00")
    for name, data in members.items():
        text = name.encode()
        fields = bytes([4, len(data), 0xA4, 0x83, 0x02]) + struct.pack("<L", zlib.crc32(data))
        body = bytes([len(data)]) + fields + bytes([0, 1, len(text)]) + text
        content += rar_block(2, 2, body, data)
    return content + rar_block(5, 0, b"\x00")


def tar_bytes(change: Callable[[tarfile.TarInfo], None] | None = None, name: str = "a") -> bytes:
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w") as archive:
        info = tarfile.TarInfo(name)
        info.size = 3
        if change:
            change(info)
        archive.addfile(info, io.BytesIO(b"abc"))
    return stream.getvalue()


class ZooTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = os.path.realpath(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def path(self, name: str) -> str:
        return os.path.join(self.folder, name)

    def make(self, command: str) -> None:
        write_tree(self.path("in"), MEMBERS)
        os.chmod(self.path("in/Tides/tides.dat"), 0o755)
        tool = command.split()[0]
        if not shutil.which(tool):
            self.skipTest(f"{tool} is not installed")
        subprocess.run(
            command, shell=True, cwd=self.path("in"), check=True, stdout=subprocess.DEVNULL
        )

    def write(self, content: bytes, name: str = "a.bin") -> str:
        with open(self.path(name), "wb") as file:
            file.write(content)
        return self.path(name)

    def holds_all(self, *names: str, form: str) -> None:
        archive = open_archive([self.path(name) for name in names])
        self.assertEqual(archive.form, form)
        found = archive.check()
        self.assertEqual(
            {m.path: (m.size, m.digest) for m in found},
            {name: (len(c), hash_bytes(c)) for name, c in MEMBERS.items()},
        )
        self.assertEqual([m.path for m in found if m.executable], ["Tides/tides.dat"])
        wanted = [m for m in found if m.path.endswith((".txt", "neap.dat"))]
        jobs = [
            Extraction(
                member=m.path,
                digest=m.digest,
                target=self.path(f"out{form}{len(names)}{n}"),
                mode=0o644,
            )
            for n, m in enumerate(wanted)
        ]
        archive.extract(jobs)
        for member, job in zip(wanted, jobs, strict=True):
            with open(job.target, "rb") as file:
                self.assertEqual(file.read(), MEMBERS[member.path])
        lie = Extraction(
            member=wanted[0].path,
            digest=wanted[1].digest,
            target=self.path(f"lie{form}{len(names)}"),
            mode=0o644,
        )
        with self.assertRaises(ContentMismatch):
            archive.extract([lie])

    def refusal(self, content: bytes, limits: Limits | None = None) -> str:
        with self.assertRaises(ArchiveFault) as caught:
            open_archive(self.write(content), limits=limits or Limits()).check()
        return caught.exception.summary

    def test_zip_under_another_name(self) -> None:
        self.make("zip -qr ../mod.pak .")
        self.holds_all("mod.pak", form="zip")

    def test_archives_behind_the_program_that_unpacks_them(self) -> None:
        program = b"MZ" + bytes(range(256)) * 400 + b"7z\xbc\xaf\x27\x1cnot yet"
        for form, command in (("zip", SAMPLES["zip"]), ("7z", SAMPLES["7z"])):
            with self.subTest(form):
                self.make(command)
                with open(self.path(f"sample.{form}"), "rb") as file:
                    self.write(program + file.read(), f"setup-{form}.exe")
                self.holds_all(f"setup-{form}.exe", form=form)
        with self.assertRaises(NotAnArchive) as caught:
            open_archive(self.write(program, "setup.exe"))
        self.assertIn("is a program, not an archive", caught.exception.summary)
        self.assertIn("rellum absorb --begin", caught.exception.hint)

    def test_split_zip(self) -> None:
        self.make("zip -qr -0 -s 64k ../s.zip .")
        parts = sorted(name for name in os.listdir(self.folder) if name.startswith("s.z"))
        self.assertEqual(parts[-1], "s.zip")
        self.assertGreater(len(parts), 3)
        self.holds_all(*parts, form="zip")
        with self.assertRaises(ArchiveFault):
            open_archive([self.path("s.z01"), self.path("s.zip")]).check()

    def test_7z_and_its_volumes(self) -> None:
        self.make("7z a -bd ../a.7z . && 7z a -bd -mx0 -v90k ../v.7z .")
        self.holds_all("a.7z", form="7z")
        volumes = sorted(name for name in os.listdir(self.folder) if name.startswith("v.7z"))
        self.holds_all(*volumes, form="7z")
        with self.assertRaisesRegex(ArchiveFault, "truncated"):
            open_archive([self.path(name) for name in volumes[:-1]])

    def test_every_form_of_the_registry(self) -> None:
        """Each is known by its content, read in full, unpacked, and refused where its end is missing."""
        self.assertEqual(set(SAMPLES) | BY_HAND, {form.id for form in FORMS})
        for form in FORMS:
            if form.id in BY_HAND:
                continue
            with self.subTest(form.id):
                content = self.sample(form)
                os.rename(self.path(f"sample{form.endings[0]}"), self.path("no-ending"))
                self.holds_all("no-ending", form=form.id)
                self.assertTrue(self.refusal(content[: len(content) * 2 // 3]))
                self.assertEqual(inner_archives([f"a{each}" for each in form.endings])[:5], "other"
                                 if len(form.endings) > 1 else "anoth")  # fmt: skip

    def sample(self, form: ArchiveForm) -> bytes:
        self.make(SAMPLES[form.id])
        with open(self.path(f"sample{form.endings[0]}"), "rb") as file:
            return file.read()

    def test_a_flipped_byte_is_found(self) -> None:
        self.make("7z a -bd -mx0 ../a.7z . && tar cz -f ../a.tgz . && zip -qr -0 ../a.zip .")
        for name in ("a.7z", "a.tgz", "a.zip"):
            with open(self.path(name), "rb") as file:
                content = bytearray(file.read())
            content[len(content) // 2] ^= 0x55
            self.assertTrue(self.refusal(bytes(content)), name)

    def test_encrypted(self) -> None:
        self.make(
            "7z a -bd -px ../a.7z . && 7z a -bd -px -mhe ../h.7z . && zip -qr -P x ../a.zip ."
        )
        for name in ("a.7z", "h.7z", "a.zip"):
            with self.assertRaisesRegex(ArchiveFault, "encrypted"):
                open_archive(self.path(name))

    def test_rar_by_each_extractor(self) -> None:
        path = self.write(stored_rar({"a.txt": b"one", "d/b.txt": b"three"}), "a.rar")
        for program in ("bsdtar", "unar"):
            if not (found := shutil.which(program)):
                continue
            with mock.patch(
                "shutil.which", lambda name, p=program, f=found: f if name == p else None
            ):
                members = open_archive(path).check()
            self.assertEqual({m.path: m.size for m in members}, {"a.txt": 3, "d/b.txt": 5})
        with (
            mock.patch("shutil.which", return_value=None),
            self.assertRaises(ArchiveFault) as caught,
        ):
            open_archive(path)
        self.assertIn("bsdtar, unar, unrar", caught.exception.hint)

    def test_hostile_members_of_tars(self) -> None:
        def linked(kind: bytes) -> Callable[[tarfile.TarInfo], None]:
            def change(info: tarfile.TarInfo) -> None:
                info.type, info.linkname, info.size = kind, "../../outside", 0

            return change

        for kind, words in (
            (tarfile.SYMTYPE, "leads out of the archive (to '../../outside')"),
            (tarfile.LNKTYPE, "leads out of the archive"),
            (tarfile.CHRTYPE, "is a device"),
            (tarfile.FIFOTYPE, "neither a file nor a folder"),
        ):
            self.assertIn(words, self.refusal(tar_bytes(linked(kind))))
        for name in ("../up", "/abs", "C:/x", "a\x07b", "nul.txt", "a/dot./b", "x:stream"):
            self.assertIn("refuses the whole archive", self.refusal(tar_bytes(name=name)), name)

    def test_hostile_members_of_7z(self) -> None:
        self.make("ln -s /etc/hosts link && 7z a -bd -snl ../a.7z .")
        with self.assertRaisesRegex(ArchiveFault, "'link' is a link that leads out"):
            open_archive(self.path("a.7z")).check()

    def test_a_decoder_that_damage_can_break_is_not_used(self) -> None:
        self.make("7z a -bd -m0=PPMd ../a.7z .")
        with self.assertRaisesRegex(ArchiveFault, "unsupported compression method .*PPMd"):
            open_archive(self.path("a.7z")).check()

    def test_bombs_and_limits(self) -> None:
        bomb = gzip.compress(tar_bytes(lambda info: setattr(info, "size", 0)) + bytes(90 << 20))
        self.assertTrue(open_archive(self.write(bomb)).check())  # zeros after the end are no member
        stream = io.BytesIO()
        with tarfile.open(fileobj=stream, mode="w:gz") as archive:
            info = tarfile.TarInfo("zeros")
            info.size = 90 << 20
            archive.addfile(info, io.BytesIO(bytes(info.size)))
        self.assertEqual(len(open_archive(self.write(stream.getvalue())).check()), 1)
        for limits, words in (
            (Limits(ratio=100), "limit 'ratio'"),
            (Limits(unpacked=1000), "limit 'unpacked'"),
            (Limits(members=0), "limit 'members'"),
        ):
            self.assertIn(words, self.refusal(stream.getvalue(), limits))
        deep = zip_bytes({"/".join("abcdefgh"): b""})
        self.assertIn("limit 'depth'", self.refusal(deep, Limits(depth=5)))

    def test_names_in_old_encodings(self) -> None:
        name = "морские карты.dat"
        content = zip_bytes({"x" * len(name.encode("cp866")): b"1"})
        content = content.replace(b"x" * len(name), name.encode("cp866"))
        archive = open_archive(self.write(content))
        self.assertEqual((archive.check()[0].path, archive.encoding), (name, "cp866"))
        again = open_archive(self.path("a.bin"), encoding="cp437")
        self.assertNotEqual(again.check()[0].path, name)
        hidden = zip_bytes({"good.txtXhidden": b"1"}).replace(b"txtX", b"txt\0")
        self.assertIn("control character", self.refusal(hidden))

    @settings(max_examples=150, deadline=None)
    @given(
        st.sampled_from(sorted(SAMPLES)),
        st.integers(0, 1 << 30),
        st.integers(1, 255),
        st.booleans(),
    )
    def test_damage_gives_a_clear_error_or_true_content(self, form, position, flip, cut) -> None:
        content = bytearray(self.animals()[form])
        position %= len(content)
        if cut:
            del content[position:]
        else:
            content[position] ^= flip
        good = {hash_bytes(each) for each in MEMBERS.values()}
        try:
            found = open_archive(self.write(bytes(content), "damaged")).check()
        except UserError as error:
            self.assertTrue(error.summary)
            return
        if form != "tar":  # a plain tar has no checksum over content
            self.assertLessEqual({m.digest for m in found}, good)

    def animals(self) -> dict[str, bytes]:
        """Return one archive of each form, made once."""
        if not hasattr(ZooTest, "_animals"):
            ZooTest._animals = {  # type: ignore[attr-defined]
                form.id: self.sample(form) for form in FORMS if form.id in SAMPLES
            }
        return ZooTest._animals  # type: ignore[attr-defined, no-any-return]


if __name__ == "__main__":
    unittest.main()
