"""Every sentence is held to the truth: random commands on random worlds; see ``tools/random_truth.py``."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest

from tests.support import memory_folder
from tests.truth.claims import Pack
from tests.truth.runner import preload
from tests.truth.world import draw

SEEDS = range(12)
STEPS = 30


@unittest.skipUnless(hasattr(os, "fork"), "this system cannot fork")
class TruthTest(unittest.TestCase):
    def test_what_is_said_is_true(self) -> None:
        preload()
        for seed in SEEDS:
            with self.subTest(seed=seed):
                root = os.path.realpath(tempfile.mkdtemp(prefix="truth-", dir=memory_folder()))
                self.addCleanup(shutil.rmtree, root, ignore_errors=True)
                pack = Pack(draw(root, seed))
                for _ in range(STEPS):
                    pack.step()


if __name__ == "__main__":
    unittest.main()
