"""The content at a path of the game folder, and its owner."""

from typing import NamedTuple

from rellum.core.hashing import Digest
from rellum.core.values.owners import Owner
from rellum.core.values.paths import PlacePath
from rellum.core.values.roles import Role

UNKNOWN_SIZE = -1
"""The size of a vanilla file that is known by its hash alone."""

SHA256 = "sha256:"
"""Begins the digest of a vanilla file if only its SHA-256 is known."""


class Content(NamedTuple):
    """A file's content and what goes with it. ``size`` in bytes, ``mtime_ns`` in ns since 1970."""

    digest: Digest
    size: int
    mode: int
    mtime_ns: int


class Laid(NamedTuple):
    """A file that Rellum laid, as it left it; or one that it took away (``content`` None).

    ``under`` is what it displaced, which comes back when the layer goes: the vanilla original, or
    a file that somebody else had put there. Its content lies in the store of originals, and so does
    ``base``: what the release itself wanted of a file that is merged with the user's changes.
    """

    path: PlacePath
    owner: Owner
    content: Content | None
    under: Content | None
    role: Role = ""
    base: Digest | None = None


PLAIN_MODE = 0o644


EXECUTABLE_MODE = 0o755
