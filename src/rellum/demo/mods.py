"""The made-up mods: their archives and their cards, from one description each."""

from __future__ import annotations

import hashlib
import io
import zipfile
from dataclasses import dataclass, field

from rellum.demo.downloads import FEED_CARD, PAGE_CARD, DemoFile, offered_files
from rellum.demo.game import data_file


@dataclass(frozen=True, kw_only=True)
class DemoRelease:
    """A release. ``members`` are the archive's content by path; ``card`` its TOML, without files."""

    version: str
    archive: str
    members: dict[str, bytes]
    card: str

    def files(self) -> list[DemoFile]:
        """Return its files as they are offered."""
        return list(offered_files(self.archive, archive_bytes(self.members)))


@dataclass(frozen=True, kw_only=True)
class DemoMod:
    """A mod with its releases; ``more`` is TOML at the end of its card."""

    id: str
    name: str
    kind: str = "mod"
    licence: str = "CC-BY-4.0"
    versions: str = "dotted"
    releases: tuple[DemoRelease, ...] = field(default=())
    more: str = ""

    def card(self) -> str:
        """Return the mod's card as TOML."""
        head = (
            f'[mod]\nid = "{self.id}"\nname = "{self.name}"\nkind = "{self.kind}"\n'
            f'licence = "{self.licence}"\nversions = "{self.versions}"\n'
        )
        return head + "".join(_release_toml(release) for release in self.releases) + self.more


def _release_toml(release: DemoRelease) -> str:
    statements, rules = _cut_at_places(release.card)
    files = "".join(map(_file_toml, release.files()))
    return f'\n[[release]]\nversion = "{release.version}"\n{statements}{files}{rules}'


def _file_toml(file: DemoFile) -> str:
    lines = [
        "",
        "  [[release.file]]",
        f'  name = "{file.name}"',
        f"  size = {len(file.content)}",
        f'  sha256 = "{hashlib.sha256(file.content).hexdigest()}"',
    ]
    if file.urls:
        quoted = ", ".join(f'"{url}"' for url in file.urls)
        lines.append(f"  from = [{quoted}]")
    if file.by_hand:
        lines += [f'  page = "{file.page}"', f'  by-hand = "{file.by_hand}"']
    return "\n".join(lines) + "\n"


def _cut_at_places(card: str) -> tuple[str, str]:
    cuts = (card.find(f"\n  {table}") for table in ("[release.settings]", "[[release.place]]"))
    cut = min((each for each in cuts if each >= 0), default=-1)
    return (card, "") if cut < 0 else (card[:cut], card[cut:])


def archive_bytes(members: dict[str, bytes]) -> bytes:
    """Return a zip of the members, the same bytes on every machine: stored, in order, one date."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        for path in sorted(members):
            info = zipfile.ZipInfo(path, date_time=(2024, 5, 1, 12, 0, 0))
            info.external_attr = 0o100644 << 16
            info.create_system = 3
            archive.writestr(info, members[path])
    return stream.getvalue()


def _about(
    mod: str, version: str, game: str, *, needs: str = "", clashes: str = "", files: str = ""
) -> bytes:
    return (
        f"[mod]\nid = {mod}\nversion = {version}\ngame = {game}\n"
        f"needs = {needs}\nclashes = {clashes}\nfiles = {files}\n"
    ).encode()


def _place(take: str, to: str, expect: str = "") -> str:
    expected = f"  expect = [{expect}]\n" if expect else ""
    return f'\n  [[release.place]]\n  take = "{take}"\n  to = "{to}"\n{expected}'


def _keelson(version: str, game: str, spoken: str) -> DemoRelease:
    return DemoRelease(
        version=version,
        archive=f"keelson-{version}.zip",
        members={
            "keelson/about.ini": _about("keelson", version, game, files="keelson.dat"),
            "keelson/keelson.dat": data_file("keelson", "keelson.dat", 50_000, version),
            "keelson/hooks.txt": f"hooks of {version}\n".encode(),
        },
        card=f'game = "{spoken}"\n' + _place("keelson/**", "@mods/keelson/", '"about.ini"'),
    )


def _plumb_line(version: str) -> DemoRelease:
    return DemoRelease(
        version=version,
        archive=f"plumb_line_{version.replace('.', '_')}.zip",
        members={
            "about.ini": _about("plumb-line", version, "1.4 1.8", files="plumb.dat"),
            "plumb.dat": data_file("plumb-line", "plumb.dat", 30_000, version),
        },
        card='game = ">=1.4"\n' + _place("**", "@mods/plumb-line/", '"plumb.dat"'),
    )


def _tidal_currents(version: str, game: str, spoken: str, keelson: str) -> DemoRelease:
    top = f"tidal_currents_{version.replace('.', '_')}_full"
    inside = f"{top}/TidalCurrents"
    return DemoRelease(
        version=version,
        archive=f"{top}.zip",
        members={
            f"{top}/read me first.txt": b"Unpack, copy, enjoy the tides.\n",
            f"{inside}/about.ini": _about(
                "tidal-currents", version, game, needs="keelson", files="tides.dat"
            ),
            f"{inside}/tides.dat": data_file("tidal-currents", "tides.dat", 160_000, version),
            f"{inside}/charts/spring.dat": data_file("tidal-currents", "spring", 40_000, version),
            f"{inside}/charts/neap.dat": data_file("tidal-currents", "neap", 40_000, version),
            f"{top}/Replace/sea.dat": data_file("tidal-currents", "sea.dat", 190_000, version),
        },
        card=f'game = "{spoken}"\nneeds = {{ keelson = "{keelson}" }}\n'
        'clashes = { still-water = "*" }\n'
        + _place("TidalCurrents/**", "@mods/tidal-currents/", '"tides.dat", "charts/"')
        + _place("Replace/**", "@data/", '"sea.dat"'),
    )


def _tidal_patch(version: str, over: str, chart: str, size: int) -> DemoRelease:
    """A patch that replaces one chart, laid over another release of the mod."""
    return DemoRelease(
        version=version,
        archive=f"tidal_currents_{version.replace('.', '_')}_patch.zip",
        members={
            "TidalCurrents/about.ini": _about(
                "tidal-currents", version, "1.5 1.7", needs="keelson", files="tides.dat"
            ),
            f"TidalCurrents/charts/{chart}.dat": data_file("tidal-currents", chart, size, version),
        },
        card=f'patches = "{over}"{" " * (23 - len(over))}# laid over {over}\n'
        + _place("TidalCurrents/**", "@mods/tidal-currents/"),
    )


def _long_swell(version: str) -> DemoRelease:
    return DemoRelease(
        version=version,
        archive=f"LongSwell-{version}.zip",
        members={
            "LongSwell/mod/about.ini": _about("long-swell", version, "1.5 1.8", needs="plumb-line"),
            "LongSwell/mod/swell.dat": data_file("long-swell", "swell.dat", 70_000, version),
            "LongSwell/textures/water.tex": data_file("long-swell", "water", 230_000, version),
        },
        card='game = ">=1.5"\nneeds = { plumb-line = ">=1.2" }\n'
        + _place("mod/**", "@mods/long-swell/", '"swell.dat"')
        + _place("textures/*.tex", "@textures/"),
    )


def _clear_water(version: str, said: str = "") -> DemoRelease:
    names = ("water", "sky", "bed")
    return DemoRelease(
        version=version,
        archive=f"clear-water-{version}.zip",
        members={
            f"pack/{name}.tex": data_file("clear-water", name, 260_000, version) for name in names
        },
        card=f'{said}game = "*"\nload = {{ after = ["long-swell"] }}\n'
        + _place("pack/**", "@textures/", '"water.tex"'),
    )


def _simple(
    mod: str,
    version: str,
    archive: str,
    game: str,
    statements: str,
    *,
    needs: str = "",
    clashes: str = "",
) -> DemoRelease:
    return DemoRelease(
        version=version,
        archive=archive,
        members={
            f"{mod}/about.ini": _about(
                mod, version, game, needs=needs, clashes=clashes, files="main.dat"
            ),
            f"{mod}/main.dat": data_file(mod, "main.dat", 60_000, version),
        },
        card=statements + _place(f"{mod}/**", f"@mods/{mod}/", '"main.dat"'),
    )


def demo_mods() -> tuple[DemoMod, ...]:
    """Return all mods of the demo's catalog."""
    return (
        DemoMod(
            id="keelson",
            name="Keelson",
            kind="loader",
            licence="MIT",
            releases=(
                _keelson("2.1", "1.4 1.7", ">=1.4, <1.7"),
                _keelson("2.4.0", "1.5 1.7", ">=1.5, <1.7"),
                _keelson("3.0.0", "1.7 1.8", ">=1.7, <1.8"),
            ),
        ),
        DemoMod(
            id="plumb-line",
            name="Plumb Line",
            kind="library",
            licence="MIT",
            releases=(_plumb_line("1.0"), _plumb_line("1.2")),
        ),
        DemoMod(
            id="tidal-currents",
            name="Tidal Currents",
            releases=(
                _tidal_currents("3.0", "1.4 1.6", ">=1.4, <1.6", ">=2"),
                _tidal_currents("3.2", "1.5 1.7", ">=1.5, <1.7", ">=2.1, <3"),
                _tidal_patch("3.2.4", "3.2", "neap", 42_000),
                _tidal_patch("3.2.5", "3.2.4", "spring", 41_000),
                _tidal_currents("4.0", "1.7 1.8", ">=1.7, <1.8", ">=3"),
            ),
            more=FEED_CARD,
        ),
        DemoMod(
            id="long-swell", name="Long Swell", releases=(_long_swell("1.0"), _long_swell("1.1"))
        ),
        DemoMod(
            id="clear-water",
            name="Clear Water",
            kind="resource-pack",
            releases=(
                _clear_water("2.0"),
                _clear_water("2.1"),
                _clear_water("2.2", 'withdrawn = "turns the sky green on some maps"\n'),
            ),
            more=PAGE_CARD,
        ),
        DemoMod(
            id="gearing",
            name="Gearing",
            kind="library",
            licence="MIT",
            releases=(
                _simple("gearing", "1.0", "gearing-1.0.zip", "1.5 1.7", 'game = ">=1.5, <1.7"\n'),
                _simple("gearing", "1.1", "gearing-1.1.zip", "1.5 1.7", 'game = ">=1.5, <1.7"\n'),
            ),
        ),
        DemoMod(
            id="night-buoys",
            name="Night Buoys",
            releases=(
                _simple("night-buoys", "1.0", "night-buoys-1.0.zip", "1.5 1.8", 'game = ">=1.5"\n'),
            ),
        ),
        DemoMod(  # the game refuses it beside the buoys, and no card says so: for a hunt
            id="fog-horns",
            name="Fog Horns",
            releases=(
                _simple(
                    "fog-horns",
                    "2.0",
                    "fog-horns-2.0.zip",
                    "1.5 1.8",
                    'game = ">=1.5"\n',
                    clashes="night-buoys",
                ),
            ),
        ),
        DemoMod(
            id="old-lights",
            name="Old Lights",
            releases=(
                _simple("old-lights", "1.4", "OldLights14.zip", "1.4 1.8", 'game = "<1.6"\n'),
            ),
        ),
        DemoMod(
            id="star-charts",
            name="Star Charts",
            versions="listed",
            releases=tuple(
                _simple(
                    "star-charts",
                    name,
                    f"star-charts-{name.replace(' ', '-')}.zip",
                    "1.5 1.8",
                    'game = ">=1.5"\n',
                )
                for name in ("first light", "middle watch", "dog watch")
            ),
        ),
        DemoMod(
            id="brasswork",
            name="Brasswork",
            releases=(
                _simple(
                    "brasswork",
                    "0.9",
                    "brasswork-0.9.zip",
                    "1.5 1.8",
                    'game = ">=1.5"\nneeds = { keelson = ">=2.1", gearing = "<2" }\n',
                    needs="keelson gearing",
                ),
                _simple(
                    "brasswork",
                    "1.0",
                    "brasswork-1.0.zip",
                    "1.6 1.8",
                    'game = ">=1.6"\nneeds = { keelson = ">=2.4", gearing = ">=1.1" }\n',
                    needs="keelson gearing",
                ),
            ),
        ),
        DemoMod(
            id="ice-breaker",
            name="Ice Breaker",
            releases=(
                _simple(
                    "ice-breaker",
                    "1.3",
                    "icebreaker13.zip",
                    "1.5 1.8",
                    'game = ">=1.5"\nexpansions = { needs = ["ice-charts"] }\n',
                ),
            ),
        ),
        DemoMod(
            id="deep-lamps",
            name="Deep Lamps",
            releases=(
                _simple(
                    "deep-lamps",
                    "1.1",
                    "deep-lamps-1.1.zip",
                    "1.5 1.8",
                    'game = ">=1.5"\nexpansions = { needs = ["deep-trench"] }\n',
                ),
            ),
        ),
        DemoMod(
            id="still-water",
            name="Still Water",
            releases=(
                _simple("still-water", "1.0", "still_water_1_0.zip", "1.4 1.8", 'game = ">=1.4"\n'),
            ),
        ),
        DemoMod(
            id="signal-flags",
            name="Signal Flags",
            licence="CC0-1.0",
            releases=(
                _simple("signal-flags", "5", "signalflags_v5.zip", "1.4 1.8", 'game = "*"\n'),
                _simple(
                    "signal-flags",
                    "5.1-beta.1",
                    "signalflags_v5.1b1.zip",
                    "1.6 1.8",
                    'game = ">=1.6"\n',
                ),
            ),
        ),
        DemoMod(
            id="harbour-bells",
            name="Harbour Bells",
            releases=(
                _simple(
                    "harbour-bells",
                    "2.0",
                    "harbour-bells-2.0.zip",
                    "1.7 1.8",
                    'game = ">=1.7"\nneeds = { keelson = ">=3" }\n',
                    needs="keelson",
                ),
            ),
        ),
    )


TRIALS = """\
# What others tried. A pack that says trust = "tried" may rest on what works here.

[[trial]]
outcome = "works"
game = "1.6.0"
date = 2026-03-14
note = "two evenings in the old strait, every lamp burns"
releases = { old-lights = "1.4" }

[[trial]]
outcome = "works"
game = "1.7.0"
date = 2026-08-02
note = "the far shore stays dark, all else is well"
releases = { old-lights = "1.4" }
"""
