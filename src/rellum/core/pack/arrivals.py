"""When the releases in a game came: read from the texts of line-ups that the change log keeps."""

from __future__ import annotations

import json
import re
from collections.abc import Collection
from typing import TYPE_CHECKING

from rellum.core.pack.home import LOCK_FILE
from rellum.core.pack.locked_release import GRAFT

if TYPE_CHECKING:
    from rellum.core.pack.change_log import ChangeLog

_LINE = re.compile(r"^(mod|version|build|options\.[^ ]+|name|slot|said) = (.+)$")


def releases_in(lock: str) -> dict[str, tuple[str, str]]:
    """Return version and options of each mod in a line-up's text, which is written a thing a line."""
    found: dict[str, tuple[str, str]] = {}
    mod = version = ""
    options: list[str] = []

    def end() -> None:
        if mod:
            found[mod] = (version, ", ".join(options))

    for line in lock.splitlines():
        match = _LINE.match(line)
        if match is None:
            continue
        key, value = match[1], json.loads(match[2])
        if key == "mod":
            end()
            mod, version, options = value, "", []
        elif key == "name":
            end()
            mod, version, options = value, GRAFT, []
        elif key in ("slot", "said") and mod:
            options.append(f"into {value}" if key == "slot" else f"({value[:6]})")
        elif key == "version":
            version = value
        elif key == "build":
            version = f"{version} ({value})"
        elif mod:
            chosen = " ".join(value) or "none"
            options.append(f"{key.removeprefix('options.')} = {chosen}")
    end()
    return found


def releases_since(log: ChangeLog, mods: Collection[str]) -> dict[str, str]:
    """Return when the release of each mod that is in the game came (RFC 3339), as far as that is known.

    Reads back only as far as it has to.
    """
    since: dict[str, str] = {}
    versions: dict[str, str] | None = None
    newer = ""
    read: tuple[tuple[str, str], ...] | None = None
    releases: dict[str, tuple[str, str]] = {}
    for each in reversed(log.all()):
        if not each.texts:
            break  # an older Rellum, which noted no releases
        if each.texts != read:
            read, releases = each.texts, releases_in(log.text(dict(each.texts).get(LOCK_FILE, "")))
        if versions is None:
            versions = {mod: releases[mod][0] for mod in mods if mod in releases}
        for mod, version in versions.items():
            if mod not in since and releases.get(mod, ("",))[0] != version:
                since[mod] = newer
        if len(since) == len(versions):
            break
        newer = each.at
    else:
        since |= {mod: newer for mod in versions or () if mod not in since}
    return since
