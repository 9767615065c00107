"""Examples that the help of each command ends with; they are from the demo."""

from __future__ import annotations

from typing import Final

EXAMPLES: Final[dict[str, tuple[str, ...]]] = {
    "demo": ("rellum demo some-new-folder",),
    "adopt": ("rellum adopt ../game", "rellum adopt ../game --catalog ../catalog"),
    "guide": ("rellum guide files", "rellum guide --list"),
    "completion": ("rellum completion bash",),
    "identify": ("rellum identify ../game", "rellum identify ../backup --write"),
    "assemble": ("rellum assemble ../whole ../part-1.zip ../part-2.zip",),
    "describe": (
        "rellum describe ../downloads --each",
        "rellum describe --game ../game",
    ),
    "take": ("rellum take ../downloads --each", "rellum take --watch ../downloads"),
    "fetch": ("rellum fetch", "rellum fetch --export missing.meta4"),
    "shelf": ("rellum shelf", "rellum shelf trim --free 2GB"),
    "vet": ("rellum vet", "rellum vet ../catalog"),
    "want": (
        "rellum want tidal-currents@3+",
        "rellum want lagoon-lights --option glow=bright",
    ),
    "drop": ("rellum drop lagoon-lights",),
    "hold": (
        "rellum hold long-swell 1.0 --reason '1.1 made everybody seasick'",
        "rellum hold long-swell --off",
    ),
    "resolve": ("rellum resolve", "rellum resolve --fresh long-swell"),
    "why": ("rellum why keelson", "rellum why keelson 3.0.0"),
    "news": ("rellum news", "rellum news --look"),
    "outlook": ("rellum outlook", "rellum outlook --figure outlook.png"),
    "status": ("rellum status", "rellum status --json"),
    "list": ("rellum list --form markdown", "rellum list --catalog lamps"),
    "compare": ("rellum compare calm", "rellum compare main vanilla --files"),
    "conflicts": ("rellum conflicts", "rellum conflicts --figure conflicts.png"),
    "decide": (
        "rellum decide winner data/sea.dat tidal-currents",
        "rellum decide trust tried",
    ),
    "graft": (
        "rellum graft old-pier --donor ../old-game --take 'harbours/**' --slot harbours/north",
    ),
    "preview": ("rellum preview", "rellum preview --newest lagoon-lights"),
    "apply": ("rellum apply", "rellum apply --newest lagoon-lights --yes"),
    "variant": (
        "rellum variant new storm --like main",
        "rellum variant use vanilla",
    ),
    "check": ("rellum check", "rellum check --deep"),
    "restore": (
        "rellum restore data/sea.dat",
        "rellum restore --damaged --from ../backup",
    ),
    "checkpoint": ("rellum checkpoint calm --good", "rellum checkpoint --list"),
    "rewind": ("rellum rewind", "rellum rewind --good"),
    "sweep": ("rellum sweep", "rellum sweep --back last"),
    "kept": ("rellum kept", "rellum kept back 3"),
    "absorb": ("rellum absorb --begin", "rellum absorb --end --as tuned-ropes"),
    "guard": ("rellum guard on",),
    "play": ("rellum play", "rellum play --outcome log --limit 60"),
    "hunt": ("rellum hunt", "rellum hunt --log"),
    "history": ("rellum history", "rellum history tidal-currents"),
    "space": ("rellum space", "rellum space --free 20GB"),
    "report": ("rellum report health.html",),
    "backup": ("rellum backup make before-the-storm", "rellum backup back"),
    "publish": ("rellum publish ../feed --keys", "rellum publish ../feed --words 'New lamps'"),
    "follow": ("rellum follow ../feed --game ../other-game", "rellum follow"),
    "press": (
        "rellum press ../work/foam --version 1.1 --patch-from 1.0",
        "rellum press --from-installed night-buoys ../work/night-buoys",
    ),
    "trial": ("rellum trial works", "rellum trial breaks old-lights@1.4 --version 1.7.0"),
}

STATUSES: Final = """\
\b
Exit status:
  0    done, or nothing to report
  1    the answer is no, or there are findings
  2    the call or a file is wrong; nothing was changed
  3    the work failed part-way and was rolled back
  4    begun, not finished: the next command goes on
  130  stopped by Ctrl-C
  141  what reads the output has gone"""
"""What exit statuses mean, as ``rellum --help`` ends."""


def epilog(command: str) -> str:
    """Return how the help of a command ends."""
    lines = "\n".join(f"  {each}" for each in EXAMPLES[command])
    return f"\b\nExample{'s' if len(EXAMPLES[command]) > 1 else ''}:\n{lines}"
