"""How versions compare, and ranges as sets of intervals."""

from rellum.core.versions.ranges import Range, RangeSyntaxError, parse_range
from rellum.core.versions.version import (
    DOTTED,
    SCHEMES,
    Version,
    VersionSyntaxError,
    parse_version,
)

__all__ = [
    "DOTTED",
    "SCHEMES",
    "Range",
    "RangeSyntaxError",
    "Version",
    "VersionSyntaxError",
    "parse_range",
    "parse_version",
]
