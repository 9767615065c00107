"""Lagoon Lights: the made-up mod that shows what a release can do beside bringing files."""

from __future__ import annotations

from rellum.demo.game import data_file
from rellum.demo.mods import DemoMod, DemoRelease

_PLACES = """
  [[release.place]]
  take = "LagoonLights/**"
  to = "@mods/lagoon-lights/"
  expect = ["about.ini", "lamps.dat"]

  [[release.place]]                 # into the container, beside what other mods put there
  take = "core/*.map"
  to = "@data/core.pak!/maps/"

  [[release.place]]
  take = "glow-soft/**"
  to = "@textures/"
  options = { glow = "soft" }

  [[release.place]]
  take = "glow-bright/**"
  to = "@textures/"
  options = { glow = "bright" }

  [[release.place]]
  take = "settings/lamps.ini"
  to = "@settings/"

  [[release.place]]
  to = "@mods/lagoon-lights/edition.txt"
  text = '''
for ${game.name} ${game.version}, ${game.edition} edition, glow ${option.glow}
${if expansion.ice-charts = yes}
ice = lit as well
${end}
'''

  [[release.edit]]                  # one line of a text in the container
  file = "@data/core.pak!/text/menu.txt"
  by = "diff"
  with = "edits/menu.diff"
"""
_OPTION = """
[[option]]
id = "glow"
  [[option.choice]]
  id = "soft"
  [[option.choice]]
  id = "bright"
"""
_MENU = b"""--- a/text/menu.txt
+++ b/text/menu.txt
@@ -1,3 +1,4 @@
 begin = Begin
 look = Look around
+lamps = Light the lamps
 leave = Leave
"""


def _whole(version: str, settings: str) -> dict[str, bytes]:
    top = f"lagoon_lights_{version.replace('.', '_')}"
    about = f"[mod]\nid = lagoon-lights\nversion = {version}\ngame = 1.6 1.8\nfiles = lamps.dat\n"
    lagoon = data_file("lagoon-lights", "lagoon.map", 64_000, version)
    return {
        f"{top}/LagoonLights/about.ini": about.encode(),
        f"{top}/LagoonLights/lamps.dat": data_file("lagoon-lights", "lamps.dat", 90_000, version),
        f"{top}/LagoonLights/presets/dusk.ini": b"[lamps]\nwarmth = 3\n",
        f"{top}/core/lagoon.map": lagoon,
        f"{top}/glow-soft/bed.tex": data_file("lagoon-lights soft", "bed", 120_000),
        f"{top}/glow-bright/bed.tex": data_file("lagoon-lights bright", "bed", 130_000),
        f"{top}/settings/lamps.ini": settings.encode(),
        f"{top}/edits/menu.diff": _MENU,
    }


_SAYS = """game = ">=1.6"
carry = ["@mods/lagoon-lights/presets/**"]
obsolete = ["@mods/lagoon_old/**"]

  [release.settings]
  "@settings/lamps.ini" = "merge"
"""

LAGOON_LIGHTS = DemoMod(
    id="lagoon-lights",
    name="Lagoon Lights",
    more=_OPTION,
    releases=(
        DemoRelease(
            version="1.0",
            archive="lagoon_lights_1_0.zip",
            members=_whole("1.0", "; how the lamps burn\n[lamps]\ncount = 12\nhour = 18\n"),
            card=_SAYS + _PLACES,
        ),
        DemoRelease(
            version="1.1",
            archive="lagoon_lights_1_1.zip",
            members=_whole(
                "1.1", "; how the lamps burn\n[lamps]\ncount = 16\nhour = 17\nflicker = off\n"
            ),
            card=_SAYS + _PLACES,
        ),
    ),
)
