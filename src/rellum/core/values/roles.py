"""Whose edits survive an update of a laid file."""

from __future__ import annotations

from typing import Literal

Role = Literal["", "merge", "mine"]
"""Nobody's; the user's, merged with each release's; or only the user's."""
