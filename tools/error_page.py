"""Write docs/errors.md from the errors themselves: ``python -m tools.error_page``."""

from __future__ import annotations

import importlib
import os
import pkgutil

import rellum
from rellum.core.errors import all_errors

HEAD = """\
# Exit statuses and errors

| status | meaning |
|---|---|
| 0 | done, or nothing to report |
| 1 | the answer is "no", or there are findings |
| 2 | the call or a file is wrong; nothing was changed |
| 3 | the work failed part-way and was rolled back; nothing was lost |
| 4 | begun, and neither done nor taken back; nothing is lost, and the next command goes on |
| 130 | stopped by Ctrl-C, with how far it had come |
| 141 | what reads the output has gone (a closed pipe) |

With `--json` an error is a document too: `{"format": 1, "error": {"code", "summary", "details", "hint",
"status"}}`.
The codes are stable. This page is written by `python -m tools.error_page`; a test keeps it true.

| code | status | meaning |
|---|---|---|
"""


def main() -> None:
    """Import every module, so that every error is known, and write the page."""
    source = os.path.dirname(rellum.__file__)
    for module in pkgutil.walk_packages([source], "rellum."):
        if not module.name.endswith("__main__") and "game_files" not in module.name:
            importlib.import_module(module.name)
    rows = sorted(
        f"| `{each.code}` | {each.exit_status} | {(each.__doc__ or '').splitlines()[0]} |\n"
        for each in all_errors()
    )
    with open(os.path.join("docs", "errors.md"), "w", encoding="utf-8") as file:
        file.write(HEAD + "".join(rows))


if __name__ == "__main__":
    main()
