"""Folders of the user in which no game keeps anything: files there are started, or are keys.

A game sheet comes from strangers. A place that is one of these folders, lies in one or holds one would let a
mod put a program where the desktop, the system or a shell starts it, or change keys.
"""

from __future__ import annotations

import os
from functools import lru_cache

from rellum.core.values.paths import lies_in, resolved

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
    import platformdirs

    bases = (
        os.path.expanduser("~"),
        platformdirs.user_config_dir(),
        platformdirs.user_data_dir(),
    )
    here = resolved(folder)
    for each, there in _unsafe(*bases):
        if lies_in(here, there) or lies_in(there, here):
            return each
    return None


@lru_cache(maxsize=8)
def _unsafe(home: str, config: str, data: str) -> tuple[tuple[str, str], ...]:
    """Return the folders as they are called, and where they really are: asked for at every change."""
    found = [os.path.join(home, *each.split("/")) for each in _BELOW_HOME]
    found += [os.path.join(config, *each.split("/")) for each in _BELOW_CONFIG]
    found += [os.path.join(data, *each.split("/")) for each in _BELOW_DATA]
    if os.name == "nt":
        # What every user of the machine shares, and the system itself.
        names = ("SystemRoot", "ProgramData", "ProgramFiles", "ProgramFiles(x86)")
        found += [folder for name in names if (folder := os.environ.get(name))]
    else:
        system = ("bin", "boot", "dev/disk", "etc", "lib", "proc", "sbin", "sys", "usr")
        found += [f"/{each}" for each in system]
    return tuple((each, resolved(each)) for each in found)
