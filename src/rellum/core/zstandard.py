"""Zstandard (RFC 8878): the standard library's from Python 3.14 on, its backport before."""

from __future__ import annotations

import importlib
import sys
from typing import Any


def zstd() -> Any:
    """Return the module; imported only when something is packed by it."""
    name = "compression.zstd" if sys.version_info >= (3, 14) else "backports.zstd"
    return importlib.import_module(name)
