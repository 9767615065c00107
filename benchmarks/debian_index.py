"""Debian's package index as a catalog: our verdicts beside those of libsolv and apt.

``python -m benchmarks.debian_index [SETS] [PACKAGES]`` reads what apt knows (``apt-cache dumpavail``), takes
packages at random with all that they may need until there are so many, and asks of random sets whether they
can be had together. What a relation means is worked out by Debian's rules and written as plain needs and
clashes; packages that need each other, alternatives and packages that stand in for others are among them.
apt is asked about the first twenty sets, as it reads the whole index each time; it only looks at the newest
version and gives up at times where there is a way, so that it may say no more often.
"""

from __future__ import annotations

import json
import os
import random
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cmp_to_key
from itertools import zip_longest
from typing import NamedTuple

from benchmarks.lag import HERE
from benchmarks.match import SYSTEM_PYTHON
from rellum.core.catalog.model import Catalog, Clash, GameSheet, Mod, Need, Release, Requirement
from rellum.core.solving.problem import Problem, Want
from rellum.core.solving.search import Found, Searcher
from rellum.core.values.ids import ModId, SheetId
from rellum.core.versions.orderings import DOTTED, parse_version
from rellum.core.versions.ranges import parse_range

_RELATION = re.compile(r"([^\s(:]+)(?::\w+)?\s*(?:\((<<|<=|=|>=|>>)\s*([^)\s]+)\s*\))?")
_ALLOWED = {"<<": (-1,), "<=": (-1, 0), "=": (0,), ">=": (0, 1), ">>": (1,)}
_SETS_OF = (5, 20, 60, 150)
_ASKED_OF_APT = 20
LIBSOLV = """\
import json, sys, time, solv
pool = solv.Pool()
pool.setdisttype(solv.Pool.DISTTYPE_DEB)
pool.setarch("amd64")
began = time.perf_counter()
pool.add_repo("index").add_debpackages(solv.xfopen(sys.argv[1]))
pool.addfileprovides()
pool.createwhatprovides()
print(json.dumps(time.perf_counter() - began))
for names in json.load(open(sys.argv[2])):
    began = time.perf_counter()
    kind = solv.Job.SOLVER_INSTALL | solv.Job.SOLVER_SOLVABLE_NAME
    solver = pool.Solver()
    solver.set_flag(solv.Solver.SOLVER_FLAG_IGNORE_RECOMMENDED, 1)
    problems = solver.solve([pool.Job(kind, pool.str2id(name)) for name in names])
    print(json.dumps([not problems, time.perf_counter() - began]))
"""


class Package(NamedTuple):
    """A stanza of the index: its fields, and its text as it stands."""

    name: str
    version: str
    fields: Mapping[str, str]
    text: str

    def relations(self, *names: str) -> Iterator[list[tuple[str, str, str]]]:
        """Yield what some fields ask for: alternatives of name, sign and version."""
        for name in names:
            for part in self.fields.get(name, "").split(","):
                if part.strip():
                    yield [_parsed(each) for each in part.split("|")]


def _parsed(text: str) -> tuple[str, str, str]:
    found = _RELATION.match(text.strip())
    assert found, text
    return found[1], found[2] or "", found[3] or ""


def compared(one: str, two: str) -> int:
    """Compare two versions as Debian's policy does (5.6.12)."""
    first, second = (_split(each) for each in (one, two))
    for mine, other in zip(first, second, strict=True):
        if result := _part_compared(mine, other):
            return result
    return 0


def _split(version: str) -> tuple[str, str, str]:
    epoch, colon, rest = version.partition(":")
    if not colon:
        epoch, rest = "0", version
    upstream, dash, revision = rest.rpartition("-")
    return (epoch, upstream, revision) if dash else (epoch, rest, "")


def _part_compared(one: str, two: str) -> int:
    pieces = [re.findall(r"(\D*)(\d*)", each) for each in (one, two)]
    for (text, digits), (other, other_digits) in zip_longest(*pieces, fillvalue=("", "")):
        keys = [[_weight(sign) for sign in each] for each in (text, other)]
        for mine, its in zip_longest(*keys, fillvalue=0):
            if mine != its:
                return 1 if mine > its else -1
        if int(digits or 0) != int(other_digits or 0):
            return 1 if int(digits or 0) > int(other_digits or 0) else -1
    return 0


def _weight(sign: str) -> int:
    return -1 if sign == "~" else ord(sign) if sign.isalpha() else ord(sign) + 256


def read_index() -> dict[str, list[Package]]:
    """Return the packages by name, each version once, the newest first."""
    done = subprocess.run(["apt-cache", "dumpavail"], capture_output=True, text=True, check=True)
    found: dict[str, dict[str, Package]] = defaultdict(dict)
    for stanza in done.stdout.split("\n\n"):
        fields = {}
        for line in re.sub(r"\n[ \t]+", " ", stanza).splitlines():
            name, _, value = line.partition(":")
            fields[name] = value.strip()
        if "Package" in fields:
            package = Package(fields["Package"], fields["Version"], fields, stanza)
            found[package.name].setdefault(package.version, package)
    age = cmp_to_key(compared)
    return {
        name: sorted(versions.values(), key=lambda each: age(each.version), reverse=True)
        for name, versions in found.items()
    }


class Index:
    """The index, and who is meant by a relation."""

    def __init__(self, packages: Mapping[str, Sequence[Package]]) -> None:
        self.packages = packages
        self._offers: dict[str, list[tuple[Package, str]]] = defaultdict(list)
        for versions in packages.values():
            for package in versions:
                for [(name, _, version)] in package.relations("Provides"):
                    self._offers[name].append((package, version))

    def meeting(self, name: str, sign: str, version: str) -> Iterator[Package]:
        """Yield the packages that meet a relation."""
        for package in self.packages.get(name, ()):
            if not sign or compared(package.version, version) in _ALLOWED[sign]:
                yield package
        for package, offered in self._offers.get(name, ()):
            if package.name != name and (
                not sign or (offered and compared(offered, version) in _ALLOWED[sign])
            ):
                yield package

    def closure(self, dice: random.Random, most: int) -> dict[str, Sequence[Package]]:
        """Return packages at random with all that they may need, until there are so many."""
        found: dict[str, Sequence[Package]] = {}
        names = dice.sample(sorted(self.packages), len(self.packages))
        while len(found) < most:
            waiting = [names.pop()]
            while waiting:
                name = waiting.pop()
                if name in found:
                    continue
                found[name] = self.packages[name]
                for package in found[name]:
                    for options in package.relations("Depends", "Pre-Depends"):
                        waiting += [p.name for each in options for p in self.meeting(*each)]
        return found


def as_catalog(index: Index) -> Catalog:
    """Return the index as cards: versions are numbered by age, relations name what meets them."""
    packages = index.packages

    def number(package: Package) -> str:
        versions = packages[package.name]
        return str(len(versions) - versions.index(package))

    def named(meant: Iterable[Package]) -> Iterator[Requirement]:
        versions: dict[str, list[str]] = defaultdict(list)
        for package in dict.fromkeys((p.name, number(p)) for p in meant):
            versions[package[0]].append(package[1])
        for name, some in versions.items():
            is_any = len(some) == len(packages[name])
            yield Requirement(ModId(name), "*" if is_any else " | ".join(f"=={v}" for v in some))

    def release(package: Package) -> Release:
        needs = []
        for options in package.relations("Depends", "Pre-Depends"):
            meant = tuple(named(p for each in options for p in index.meeting(*each)))
            # What nobody has cannot be met: a version that there is not.
            needs.append(Need(meant or (Requirement(ModId(package.name), "==0"),)))
        clashes = [
            Clash(each)
            for [relation] in package.relations("Conflicts", "Breaks")
            for each in named(p for p in index.meeting(*relation) if p.name != package.name)
        ]
        return Release(
            mod=ModId(package.name),
            version=parse_version(number(package)),
            needs=tuple(needs),
            clashes=tuple(clashes),
            source=HERE,
        )

    mods = {
        ModId(name): Mod(
            id=ModId(name), name=name, kind="mod", licence="", ordering=DOTTED,
            releases=tuple(map(release, versions)), source=HERE,
        )
        for name, versions in packages.items()
    }  # fmt: skip
    sheet = GameSheet(
        id=SheetId("bench"), name="Bench", marks=(), version_rules=(), edition_rules=(),
        expansion_rules=(), known_versions=(parse_version("1"),), places={}, own_files=(), source=HERE,
    )  # fmt: skip
    return Catalog(folders=(), sheet=sheet, mods=mods, orderings={}, offered={}, trials=())


def ours(catalog: Catalog, names: Sequence[str]) -> tuple[bool, float]:
    """Return whether a set can be had, and the seconds that takes, clauses included."""
    wants = tuple(Want(mod=ModId(n), range=parse_range("*"), source=HERE) for n in names)
    problem = Problem(
        games=(parse_version("1"),), edition=None, expansions=(), wants=wants, holds=(), catalog=catalog
    )  # fmt: skip
    began = time.perf_counter()
    found = isinstance(Searcher(problem).search(problem), Found)
    return found, time.perf_counter() - began


def apt(names: Sequence[str], folder: str) -> tuple[bool, float]:
    """Return what apt says of a machine with nothing on it, and the seconds that takes."""
    status = os.path.join(folder, "status")
    open(status, "w").close()
    words = [
        "apt-get",
        "-s",
        "-o",
        f"Dir::State::status={status}",
        "--no-install-recommends",
        "install",
    ]
    began = time.perf_counter()
    done = subprocess.run([*words, *names], capture_output=True, check=False)
    return done.returncode == 0, time.perf_counter() - began


def main() -> None:
    """Draw, ask all three, and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    most = int(sys.argv[2]) if len(sys.argv) > 2 else 4000
    dice = random.Random(20)
    index = Index(Index(read_index()).closure(dice, most))
    catalog = as_catalog(index)
    names = sorted(index.packages)
    sets = [dice.sample(names, dice.choice(_SETS_OF)) for _ in range(count)]
    with tempfile.TemporaryDirectory() as folder:
        packages = os.path.join(folder, "Packages")
        with open(packages, "w", encoding="utf-8") as file:
            file.writelines(f"{p.text}\n\n" for each in index.packages.values() for p in each)
        with open(os.path.join(folder, "sets.json"), "w", encoding="utf-8") as file:
            json.dump(sets, file)
        words = [SYSTEM_PYTHON, "-c", LIBSOLV, packages, file.name]
        said = subprocess.run(words, capture_output=True, text=True, check=True).stdout.splitlines()
        loading, *theirs = map(json.loads, said)
        mine = [ours(catalog, each) for each in sets]
        others = [apt(each, folder) for each in sets[:_ASKED_OF_APT]]
    possible = sum(found for found, _ in mine)
    unlike = [n for n, (a, b) in enumerate(zip(mine, theirs, strict=True)) if a[0] != b[0]]
    asked = [*zip(mine, others, strict=False)]
    only_apt = [n for n, (a, b) in enumerate(asked) if b[0] and not a[0]]
    apt_no = sum(a[0] and not b[0] for a, b in asked)
    print(
        f"{len(names):,} packages, {count} sets, {possible} can be had; verdicts unlike libsolv's: "
        f"{len(unlike)}; of {len(asked)} sets apt finds a way where ours does not: {len(only_apt)}, "
        f"the other way round: {apt_no}"
    )
    for who, answers in (("ours", mine), ("libsolv", theirs), ("apt, whole", others)):
        seconds = [each for _, each in answers]
        print(f"{who}: median {statistics.median(seconds):.3f} s, most {max(seconds):.3f} s")
    print(f"libsolv reads the index in {loading:.2f} s")
    for number in (unlike + only_apt)[:5]:
        print("unlike:", mine[number][0], theirs[number][0], sets[number])


if __name__ == "__main__":
    main()
