"""What ``rellum describe`` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rellum.core.describing.card_text import Described


def document(described: Described, text: str) -> dict[str, Any]:
    naming, shape = described.naming, described.shape
    return {
        "id": naming.id.value or None,
        "name": naming.name.value or None,
        "version": naming.version.value or None,
        "is_patch": naming.is_patch,
        "known_as": described.known_as or None,
        "has_card": described.has_card,
        "wrapper": shape.wrapper or None,
        "files": [{"name": f.name, "size": f.size, "sha256": f.sha256} for f in described.files],
        "places": [
            {
                "take": rule.take,
                "to": rule.to,
                "reason": rule.reason,
                "sure": rule.is_sure,
                "replaces": list(rule.replaces),
            }
            for rule in shape.rules
        ],
        "alternatives": [
            {"option": a.group, "above": a.above, "folders": list(a.names)}
            for a in shape.alternatives
        ],
        "left_out": list(shape.left_out),
        "card": text,
    }
