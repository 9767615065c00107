"""Planning in memory: layers over layers, beside what Python needs for a dict of the same paths."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable

from benchmarks.measure import Comparison, Run
from rellum.core.archives.model import Member
from rellum.core.hashing import Digest
from rellum.core.layers.model import Layer, LayerFile
from rellum.core.layers.target import lay_over
from rellum.core.values.ids import ModId
from rellum.core.values.paths import MemberPath, PlacePath
from tests.support import NoMaker

MODS, FILES = 200, 1000
_SHARED = 50
"""So many of a mod's files are brought by the mod before it, too."""


def make_layers() -> list[Layer]:
    """Return the layers of all mods."""
    return [
        Layer(mod=ModId(f"mod-{mod:03}"), version="1", files=tuple(map(_file, _paths(mod))))
        for mod in range(MODS)
    ]


def _paths(mod: int) -> list[str]:
    own = [f"@game/mods/m{mod:03}/d{n % 40}/file_{n}.dat" for n in range(FILES - _SHARED)]
    return own + [f"@game/data/d{mod // 2}/shared_{n}.dat" for n in range(_SHARED)]


def _file(path: str) -> LayerFile:
    member = Member(path=MemberPath(path[6:]), size=1, digest=Digest("d" * 64), executable=False)
    return LayerFile(path=PlacePath(path), archive=Digest("a" * 64), member=member)


def compare_planning(runs: int = 9) -> Comparison:
    """Time both in turn, in this process."""
    layers = make_layers()
    paths = [file.path for layer in layers for file in layer.files]

    def plan() -> object:
        return lay_over(layers, NoMaker(), lambda _: None)

    def build_and_sort() -> object:
        return dict(sorted({path: path for path in paths}.items()))

    gc.set_threshold(20_000_000)  # as the program does
    ours, others = [], []
    for _ in range(runs):
        ours.append(_timed(plan))
        others.append(_timed(build_and_sort))
    return Comparison("plan 200,000 paths", ours, others, "dict, sorted", 2)


def _timed(work: Callable[[], object]) -> Run:
    start = time.perf_counter()
    work()
    return Run(time.perf_counter() - start, 0)
