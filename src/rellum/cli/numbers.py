"""Numbers and times as people read them."""

from __future__ import annotations


def bytes_text(count: int) -> str:
    """Return a number of bytes for people, in decimal units: ``48.2 kB``."""
    size = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if size < 999.95 or unit == "GB":
            break
        size /= 1000
    return f"{count:,} B" if unit == "B" else f"{size:,.1f} {unit}"


def moment_text(at: str) -> str:
    """Return a time (RFC 3339, UTC) as people read it: ``2026-03-14 19:02:11``."""
    return at.replace("T", " ").removesuffix("Z")


def count_text(count: int, one: str, many: str = "") -> str:
    """Return a number with its noun: ``1 file``, ``12 files``."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"
