"""Taking in what curators really have: parts, renamed files, pages saved as archives, folders."""

from __future__ import annotations

import hashlib
import io
import json
import os
import random
import shutil
import subprocess
import sys
import threading
import time
import unittest
import zlib
from typing import Any

import py7zr

from tests.support import WorldTest, snapshot, write_tree, zip_bytes

NOISE = random.Random(9)


class TakeTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.tides = {"wrap/Tides/tides.dat": NOISE.randbytes(9000), "wrap/readme.txt": b"hello"}
        self.world.add_release(
            "tides",
            "3.2",
            self.tides,
            place='take = "Tides/**"\nto = "@mods/tides/"\nexpect = ["tides.dat"]',
        )
        self.world.adopt()

    def take(self, *words: str, status: int = 0) -> Any:
        result = self.world.run("take", "--json", *words)
        self.assertNotIn("Traceback", result.stderr)
        self.assertEqual(result.returncode, status, result.stdout + result.stderr)
        return json.loads(result.stdout)["archives"]

    def put(self, name: str, content: bytes) -> str:
        write_tree(self.world.path("in"), {name: content})
        return f"../in/{name}"

    def refused(self, path: str, words: str) -> None:
        shelf = snapshot(self.world.path("shelf", "archives"))
        [taken] = self.take(path, status=2)
        self.assertEqual(taken["outcome"], "refused")
        self.assertIn(words, taken["reason"])
        self.assertEqual(snapshot(self.world.path("shelf", "archives")), shelf)

    def archive(self) -> bytes:
        with open(self.world.path("downloads", "tides-3.2.zip"), "rb") as file:
            return file.read()

    def card(self, mod: str, files: str) -> None:
        head = f'[mod]\nid = "{mod}"\nname = "{mod}"\n[[release]]\nversion = "1.0"\n'
        text = f'{head}{files}[[release.place]]\nto = "@mods/{mod}/"\n'
        write_tree(self.world.path("catalog", "cards"), {f"{mod}.toml": text.encode()})

    def test_by_hash_whatever_the_name(self) -> None:
        path = self.put("download (3)", self.archive())
        [taken] = self.take(path)
        self.assertEqual(
            (taken["outcome"], taken["release"]["mod"], taken["known_by"]),
            ("taken", "tides", "sha256"),
        )
        self.assertEqual(self.take(path)[0]["outcome"], "already there")

    def test_what_is_no_archive(self) -> None:
        page = b"<!DOCTYPE html><html><title>Please\n sign&nbsp;in</title>"
        self.refused(self.put("tides-3.2.zip", page), "web page ('Please sign in')")
        self.refused(
            self.put("a.zip", b'{"error": "quota"}'),
            'response meant for programs, not an archive: {"error"',
        )
        self.refused(self.put("b.zip", b""), "empty")
        self.refused(self.put("c.zip", bytes(3000)), "only zero bytes")
        self.refused(self.put("d.zip", self.archive()[:4000]), "the download is incomplete")
        self.refused(self.put("e.zip.crdownload", self.archive()), "download is not finished")
        path = self.put("f.zip", self.archive())
        self.put("f.zip.part", b"")
        self.refused(path, "f.zip.part lies beside it")
        self.refused(
            self.put("words.dat", b"just some words"), "not an archive that Rellum can read"
        )
        self.refused("../in/none.zip", "not found")

    def test_checksum_lists_that_came_along(self) -> None:
        content = zip_bytes({"a": b"1"})
        path = self.put("lamps.zip", content)
        for name, text in (
            ("SHA256SUMS", f"{hashlib.sha256(content).hexdigest()} *lamps.zip\n"),
            ("MD5SUMS", f"{hashlib.md5(content).hexdigest()}  ./lamps.zip\n"),
            ("all.sfv", f"; made by hand\nlamps.zip {zlib.crc32(content):08X}\n"),
            ("lamps.zip.sha512", hashlib.sha512(content).hexdigest()),
        ):
            self.put(name, text.encode())
            self.assertEqual(
                self.take(path)[0]["outcome"],
                "unknown" if name == "SHA256SUMS" else "already there",
            )
            wrong = (
                text.replace(text.split()[0][:2], "00")
                if name != "all.sfv"
                else "lamps.zip 00000000\n"
            )
            self.put(name, wrong.encode())
            self.refused(path, f"not as {name}:")
            os.unlink(self.world.path("in", name))

    def test_parts_in_any_order_from_several_folders(self) -> None:
        content = zip_bytes({f"d/{n}.dat": NOISE.randbytes(2000) for n in range(6)})
        size = -(-len(content) // 12)
        parts = {f"lamps.zip.{n + 1:03}": content[n * size : (n + 1) * size] for n in range(12)}
        self.card("lamps", "".join(
            f'[[release.file]]\nname = "{name}"\nsha256 = "{hashlib.sha256(part).hexdigest()}"\n'
            for name, part in parts.items()
        ))  # fmt: skip
        names = sorted(parts)
        NOISE.shuffle(names)
        late, early = names[:2], names[2:]
        paths = [
            self.put(f"{'one' if n % 2 else 'two'}/{name}", parts[name])
            for n, name in enumerate(early)
        ]
        taken = self.take(*paths)
        missing = ", ".join(sorted(late))
        self.assertEqual(
            {each["reason"] for each in taken}, {f"10 of 12 parts; missing: {missing}"}
        )
        damaged = bytes([parts[late[0]][0] ^ 1]) + parts[late[0]][1:]
        self.refused(self.put(late[0], damaged), "with another hash")
        taken = self.take(*(self.put(f"late/{name}", parts[name]) for name in late))
        self.assertEqual({each["reason"] for each in taken}, {"12 parts, all here"})
        self.world.want("lamps")
        self.world.resolve()
        self.world.apply()
        with open(self.world.path("game", "mods", "lamps", "d", "3.dat"), "rb") as file:
            self.assertEqual(len(file.read()), 2000)

    def test_two_releases_may_have_parts_of_the_same_names(self) -> None:
        for mod in ("lamps", "bells"):
            content = zip_bytes({f"{mod}.dat": NOISE.randbytes(3000)})
            parts = {"data.zip.001": content[:1600], "data.zip.002": content[1600:]}
            files = "".join(
                f'[[release.file]]\nname = "{name}"\nsha256 = "{hashlib.sha256(part).hexdigest()}"\n'
                for name, part in parts.items()
            )
            self.card(mod, files)
            paths = [self.put(f"{mod}/{name}", part) for name, part in parts.items()]
            self.assertEqual({e["reason"] for e in self.take(*paths)}, {"2 parts, all here"})
            self.world.want(mod)
        self.world.resolve()
        self.world.apply()
        game = self.world.game()
        self.assertTrue({"mods/lamps/lamps.dat", "mods/bells/bells.dat"} <= set(game))

    def test_a_part_that_was_damaged_can_be_taken_again(self) -> None:
        content = zip_bytes({"a.dat": NOISE.randbytes(3000)})
        damaged = bytes([content[100] ^ 1]) + content[101:1600]
        first = self.put("x.zip.001", content[:100] + damaged)
        second = self.put("x.zip.002", content[1600:])
        self.assertIn("is damaged", self.take(first, second)[0]["reason"])
        again = self.take(self.put("new/x.zip.001", content[:1600]))
        self.assertEqual(again[0]["reason"], "2 parts, all here")

    def test_volumes_and_split_zips_tell_how_many_there_are(self) -> None:
        write_tree(self.world.path("in"), {"x/data.bin": NOISE.randbytes(500_000)})
        for command, missing in (
            ("7z a -bd -v200k ../v.7z .", "v.7z.002"),
            ("zip -qr -s 200k ../s.zip .", "s.z02"),
        ):
            if not shutil.which(command.split()[0]):
                self.skipTest("no 7z or zip here")
            subprocess.run(
                command,
                shell=True,
                cwd=self.world.path("in/x"),
                check=True,
                stdout=subprocess.DEVNULL,
            )
            found = [
                n for n in os.listdir(self.world.path("in")) if n[0] == missing[0] and n != "x"
            ]
            paths = [f"../in/{name}" for name in sorted(found, reverse=True) if name != missing]
            self.assertEqual(
                {each["reason"] for each in self.take(*paths)},
                {f"2 of 3 parts; missing: {missing}"},
            )
            [last] = self.take(f"../in/{missing}")
            self.assertEqual((last["outcome"], last["reason"]), ("unknown", "3 parts, all here"))

    def test_likely_releases_and_stating(self) -> None:
        changed = {**self.tides, "wrap/Tides/tides.dat": NOISE.randbytes(9100)}
        path = self.put("Tides_v3_2_repacked.zip", zip_bytes(changed))
        [taken] = self.take(path)
        self.assertEqual(taken["outcome"], "unknown")
        self.assertEqual(taken["likely"][0]["release"], "tides@3.2")
        self.assertEqual(taken["likely"][0]["points"], 70)
        self.assertIn("likely tides@3.2  (70 of 100", self.world.run("take", path).stdout)
        self.refused_as(path, "tides@3.2", "tides 3.2 has tides-3.2.zip with")
        self.refused_as(path, "tides@9", "tides has no release '9'")
        self.refused_as(path, "tide@3.2", "tide")
        # A card that knows no hash takes the curator's word, and the line-up writes down what it was.
        self.card("lamps", '[[release.file]]\nname = "lamps.zip"\n')
        [taken] = self.take(path, "--as", "lamps@1.0")
        self.assertEqual((taken["release"]["mod"], taken["known_by"]), ("lamps", "stated"))
        self.world.want("lamps")
        lock = self.world.resolve().lock
        self.assertEqual(lock.releases[0].files[0].blake3, taken["blake3"])
        self.assertTrue(self.world.run("apply", "--yes").returncode == 0)

    def refused_as(self, path: str, stated: str, words: str) -> None:
        result = self.world.run("take", path, "--as", stated)
        self.assertEqual(result.returncode, 2)
        self.assertIn(words, result.stderr)

    def test_old_digests_only_recognise(self) -> None:
        content = zip_bytes({"a": b"old"})
        self.card(
            "lamps",
            f'[[release.file]]\nname = "l.zip"\nmd5 = "{hashlib.md5(content).hexdigest()}"\n',
        )
        [taken] = self.take(self.put("l.zip", content))
        self.assertEqual((taken["release"]["mod"], taken["known_by"]), ("lamps", "md5"))

    def test_folders_and_loose_files(self) -> None:
        self.put("Unpacked/a.dat", b"1")
        self.put("Unpacked/deep/b.dat", b"2")
        [taken] = self.take("../in/Unpacked")
        self.assertEqual((taken["outcome"], taken["form"]), ("unknown", "zip"))
        [again] = self.take("../in/Unpacked")
        self.assertEqual((again["outcome"], again["blake3"]), ("already there", taken["blake3"]))
        os.symlink("/etc/hosts", self.world.path("in", "Unpacked", "link"))
        self.refused("../in/Unpacked", "is a link; Rellum refuses the whole folder")
        self.card("lamps", '[[release.file]]\nname = "lamps.ini"\n')
        [taken] = self.take(self.put("other.ini", b"[lamps]\n"), "--as", "lamps@1.0")
        self.assertEqual(taken["form"], "file")

    def test_moves_and_links_lose_nothing(self) -> None:
        moved = self.world.path("in", "m.zip")
        path = self.put("m.zip", zip_bytes({"a": b"moved"}))
        self.take(path, "--by", "move")
        self.assertFalse(os.path.exists(moved))
        linked = self.put("l.zip", zip_bytes({"a": b"linked"}))
        [taken] = self.take(linked, "--by", "link")
        kept = self.world.path("shelf", "archives", taken["blake3"][:2], taken["blake3"])
        self.assertTrue(os.path.samefile(kept, self.world.path("in", "l.zip")))
        bad = self.put("bad.zip", self.archive()[:-400])
        self.take(bad, "--by", "move", status=2)
        self.assertTrue(os.path.exists(self.world.path("in", "bad.zip")))
        self.assertEqual(self.world.run("take", bad, "--by", "wish").returncode, 2)
        self.assertEqual(self.world.run("take").returncode, 2)

    def test_limits_of_the_pack(self) -> None:
        path = self.put("many.zip", zip_bytes({str(n): b"" for n in range(30)}))
        with open(self.world.path("pack", "rellum.toml"), "a", encoding="utf-8") as file:
            file.write("[limits]\nmembers = 20\n")
        self.refused(path, "more than 20 members (limit 'members')")

    def test_watching_a_folder(self) -> None:
        self.world.want("tides")
        self.world.resolve()
        os.makedirs(self.world.path("in"))
        process = subprocess.Popen(
            [sys.executable, "-m", "rellum", "take", "--watch", "../in", "--json"],
            cwd=self.world.path("pack"),
            env={**os.environ, "RELLUM_SHELF": self.world.path("shelf")},
            stdout=subprocess.PIPE,
            text=True,
        )
        content = self.archive()

        def download() -> None:
            partial = self.world.path("in", "tides-3.2.zip.part")
            for end in range(0, len(content), 3000):
                time.sleep(0.3)
                self.put("tides-3.2.zip.part", content[:end])
            self.put("tides-3.2.zip.part", content)
            os.rename(partial, self.world.path("in", "tides-3.2.zip"))

        threading.Thread(target=download).start()
        told, _ = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 0)
        self.assertEqual([e["outcome"] for e in json.loads(told)["archives"]], ["taken"])

    def test_archives_in_archives_are_named(self) -> None:
        def member(name: str, content: bytes) -> bytes:
            head = f"{name:<16}{0:<12}{0:<6}{0:<6}{'100644':<8}{len(content):<10}`\n"
            return head.encode() + content + b"\n" * (len(content) % 2)

        inner = [("debian-binary", b"2.0\n"), ("control.tar.xz", b"abc"), ("data.tar.xz", b"d")]
        deb = b"!<arch>\n" + b"".join(member(*each) for each in inner)
        nested = zip_bytes({"read me.txt": b"x", "deep/real.7z": b"7", "other.ZIP": b"z"})
        write_tree(self.world.path("in"), {"a.deb": deb, "nested.zip": nested})
        result = self.world.run("take", "../in/a.deb")
        self.assertEqual(result.returncode, 2)
        self.assertIn("around debian-binary, control.tar.xz, data.tar.xz", result.stderr)
        self.assertIn("take data.tar.xz", result.stderr)
        result = self.world.run("take", "../in/nested.zip")
        self.assertEqual(result.returncode, 2)
        self.assertIn("holds other archives (deep/real.7z, other.ZIP), and no files", result.stderr)
        self.assertNotIn("nested.zip", self.world.run("shelf").stdout)
        mixed = zip_bytes({"deep/real.7z": b"7", "mod/a.dat": b"a"})
        write_tree(self.world.path("in"), {"mixed.zip": mixed})
        said = self.world.run("take", "../in/mixed.zip").stdout
        self.assertIn("it contains another archive (deep/real.7z)", said)

    def test_one_error_for_all_parts_of_an_archive(self) -> None:
        stream = io.BytesIO()
        with py7zr.SevenZipFile(stream, "w") as archive:
            archive.writestr(os.urandom(30_000), "a.dat")
        broken = bytearray(stream.getvalue())
        broken[15_000] ^= 1
        names = [f"big.7z.{number:03}" for number in (1, 2, 3)]
        cuts = {n: bytes(broken[at * 11_000 :][:11_000]) for at, n in enumerate(names)}
        write_tree(self.world.path("in"), cuts)
        result = self.world.run("take", *(f"../in/{name}" for name in names))
        self.assertEqual(result.stderr.count("is damaged"), 1, result.stderr)
        self.assertIn("of ../in/big.7z.001, ../in/big.7z.002, ../in/big.7z.003", result.stderr)


if __name__ == "__main__":
    unittest.main()
