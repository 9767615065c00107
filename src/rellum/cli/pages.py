"""The pages of the guide, which come with the package."""

from __future__ import annotations

import os

import rellum


def _folder() -> str:
    """Return where the pages are: in the package, or beside the sources where it runs from these."""
    package = os.path.dirname(os.path.abspath(rellum.__file__))
    inside = os.path.join(package, "docs")
    return inside if os.path.isdir(inside) else os.path.join(package, "..", "..", "docs")


def page_file(page: str) -> str:
    """Return the file of a page."""
    return os.path.join(_folder(), f"{page}.md")


def pages() -> dict[str, str]:
    """Return the pages with their titles."""
    found = {}
    folder = _folder()
    for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else ():
        if name.endswith(".md"):
            with open(os.path.join(folder, name), encoding="utf-8") as file:
                found[name[:-3]] = file.readline().strip("# \n")
    return found
