"""Folders of the user in which no game keeps anything: files there are started, or are keys.

A game sheet comes from strangers. A place that is one of these folders, lies in one or holds one would let a
mod put a program where the desktop, the system or a shell starts it, or change keys.
"""

from __future__ import annotations

import os
from collections.abc import Iterator

from rellum.core.values.paths import is_inside

_BELOW_HOME = (
    # keys and passwords
    ".ssh", ".gnupg", ".pki", ".password-store", ".aws", ".azure", ".kube", ".docker",
    ".local/share/keyrings",
    "Library/Keychains", "AppData/Roaming/Microsoft/Credentials", "AppData/Local/Microsoft/Credentials",
    "AppData/Roaming/Microsoft/Protect", "AppData/Roaming/Microsoft/Crypto",
    # what a desktop, a system or a shell starts
    "bin", ".local/bin", ".config/autostart", ".config/systemd", ".config/environment.d", ".config/fish",
    ".config/plasma-workspace", ".config/upstart", ".config/xfce4", ".local/share/systemd",
    ".local/share/applications", ".local/share/dbus-1", ".local/share/autostart", ".oh-my-zsh", ".bashrc.d",
    "Library/LaunchAgents", "Library/LaunchDaemons", "Library/StartupItems", "Library/Application Scripts",
    "Library/Preferences", "Library/Services",
    "AppData/Roaming/Microsoft/Windows", "AppData/Local/Microsoft/Windows",
    "AppData/Local/Microsoft/WindowsApps",
    "Documents/WindowsPowerShell", "Documents/PowerShell", ".config/powershell",
)  # fmt: skip
_BELOW_CONFIG = tuple(each.removeprefix(".config/") for each in _BELOW_HOME if ".config/" in each)
_BELOW_DATA = tuple(
    each.removeprefix(".local/share/") for each in _BELOW_HOME if ".local/share/" in each
)


def unsafe_folder(folder: str) -> str | None:
    """Return the folder for whose sake another one must not be a place; None where there is none."""
    for each in _unsafe():
        if is_inside(folder, each) or is_inside(each, folder):
            return each
    return None


def _unsafe() -> Iterator[str]:
    import platformdirs

    home = os.path.expanduser("~")
    yield from (os.path.join(home, *each.split("/")) for each in _BELOW_HOME)
    for base, below in (
        (platformdirs.user_config_dir(), _BELOW_CONFIG),
        (platformdirs.user_data_dir(), _BELOW_DATA),
    ):
        yield from (os.path.join(base, *each.split("/")) for each in below)
    if os.name == "nt":
        # What every user of the machine shares, and the system itself.
        for name in ("SystemRoot", "ProgramData", "ProgramFiles", "ProgramFiles(x86)"):
            if folder := os.environ.get(name):
                yield folder
    else:
        system = ("bin", "boot", "dev/disk", "etc", "lib", "proc", "sbin", "sys", "usr")
        yield from (f"/{each}" for each in system)
