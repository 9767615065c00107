"""Backups against a model: what each has, what dropping frees, and what damage costs."""

from __future__ import annotations

import os
import random
import tempfile
import time
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rellum.core.pack.backup import KEPT_LAST, BackupFault, Circumstances, SeenFile, superfluous
from rellum.core.pack.backups import Backups
from rellum.core.values.paths import PlacePath
from tests.support import memory_folder

ABOUT = Circumstances("test", "main", "1.0", ("a 1",))


class BackupsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.root = self.enterContext(tempfile.TemporaryDirectory(dir=memory_folder()))
        self.store = os.path.join(self.root, "backups")

    def seen(self, files: dict[str, bytes]) -> dict[PlacePath, SeenFile]:
        found = {}
        for name, content in files.items():
            path = os.path.join(self.root, name)
            before = None
            if os.path.exists(path):
                with open(path, "rb") as stream:
                    before = stream.read()
            if before != content:
                with open(path, "wb") as stream:
                    stream.write(content)
            status = os.lstat(path)
            found[PlacePath(f"@saves/{name}")] = SeenFile(
                path, status.st_size, 0o644, status.st_mtime_ns, status.st_ctime_ns
            )
        return found

    def contents(self, backups: Backups, number: int) -> dict[str, bytes]:
        found = {}
        for path, content in backups.files_of(number).items():
            with open(backups.path_of(content.digest), "rb") as stream:
                found[path.removeprefix("@saves/")] = stream.read()
        return found

    def test_random_days_of_saves(self) -> None:
        for seed in range(25):
            dice = random.Random(seed)
            store = f"{self.store}{seed}"
            files: dict[str, bytes] = {}
            model: dict[int, dict[str, bytes]] = {}
            with Backups(store) as backups:
                for _ in range(12):
                    for _ in range(dice.randint(0, 3)):
                        name = f"s{seed}-{dice.randint(0, 4)}"
                        if name in files and dice.random() < 0.3:
                            del files[name]
                        else:
                            files[name] = dice.randbytes(dice.randint(0, 9))
                    before = model.get(max(model, default=0))
                    made = backups.make(self.seen(files), lambda: ABOUT)
                    self.assertEqual(made.is_new, before != files or not model)
                    model[made.number] = dict(files)
                    if len(model) > 3 and dice.random() < 0.3:
                        gone = dice.choice(sorted(model)[:-1])
                        free = backups.would_free([gone])
                        self.assertEqual(backups.drop([gone]), free)
                        del model[gone]
                    self.assertEqual({each.number for each in backups.all()}, set(model))
                    for number, expected in model.items():
                        self.assertEqual(self.contents(backups, number), expected)
                self.assertEqual(list(backups.damaged()), [])

    def test_damage_is_named_and_the_rest_is_usable(self) -> None:
        with Backups(self.store) as backups:
            backups.make(self.seen({"a": b"aaa", "b": b"bbb"}), lambda: ABOUT)
            digest = backups.files_of(1)[PlacePath("@saves/a")].digest
            with open(backups.path_of(digest), "wb") as stream:
                stream.write(b"rot")
            self.assertEqual(list(backups.damaged()), [("@saves/a", 1)])
            backups.make(self.seen({"a": b"aaa", "b": b"bbb", "c": b"aaa"}), lambda: ABOUT)
            self.assertEqual(list(backups.damaged()), [])  # it is kept again, whole

    def test_a_damaged_list_is_refused(self) -> None:
        with Backups(self.store) as backups:
            backups.make(self.seen({"a": b"a"}), lambda: ABOUT)
        with open(os.path.join(self.store, "backups.db"), "r+b") as stream:
            stream.seek(0)
            stream.write(b"nonsense" * 64)
        with self.assertRaises(BackupFault), Backups(self.store) as backups:
            backups.all()

    def test_a_file_that_is_written_to_meanwhile_is_named(self) -> None:
        seen = self.seen({"a": b"a", "b": b"b"})
        with open(os.path.join(self.root, "a"), "wb") as stream:
            stream.write(b"longer than before")
        os.unlink(os.path.join(self.root, "b"))
        with Backups(self.store) as backups:
            made = backups.make(seen, lambda: ABOUT)
        self.assertEqual(set(made.in_use), {"@saves/a", "@saves/b"})

    def test_a_date_that_no_database_holds_is_no_obstacle(self) -> None:
        seen = self.seen({"a": b"a", "b": b"b"})
        far = {
            path: each._replace(ctime_ns=each.ctime_ns + (1 << 63)) for path, each in seen.items()
        }
        with Backups(self.store) as backups:
            self.assertEqual(len(backups.make(far, lambda: ABOUT).changed), 2)
            self.assertFalse(backups.make(far, lambda: ABOUT).is_new)

    @settings(max_examples=100, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 900), st.booleans()), max_size=120))
    def test_thinning_keeps_what_it_says(self, made: list[tuple[int, bool]]) -> None:
        now = 1_790_000_000.0
        ages = sorted(made)
        rows = [
            (
                len(ages) - at,
                time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(now - age * 40_000)),
                int(named),
            )
            for at, (age, named) in enumerate(ages)
        ]
        gone = set(superfluous(rows, now))
        stays = [row for row in rows if row[0] not in gone]
        self.assertEqual(stays[:KEPT_LAST], rows[:KEPT_LAST])
        self.assertFalse(gone & {number for number, _, named in rows if named})
        for days, length in ((30, 10), (24 * 30, 7)):
            begin = time.strftime("%Y-%m-%d", time.gmtime(now - days * 86_400))[:length]
            spans = {row[1][:length] for row in rows if row[1][:length] >= begin}
            self.assertEqual({row[1][:length] for row in stays} & spans, spans)


if __name__ == "__main__":
    unittest.main()
