"""``rellum status``."""

from __future__ import annotations

from rellum.cli import options
from rellum.cli.request import request_of


def status(
    every: options.Full = False, pack: options.Pack = options.HERE, as_json: options.Json = False
) -> None:
    """Show how pack and game stand, and which command comes next.

    Compares sizes and times only; 'rellum check' says what each difference is. 'rellum list' shows all mods.
    """
    import json

    from rellum.cli.views import status as view
    from rellum.core.actions.change.told_status import told_status

    told = told_status(request_of(pack), lambda found: json.dumps(view.document(found)))
    document = json.loads(told.text)
    document["free_bytes"] = told.free_bytes
    view.show(document, every=every, as_json=as_json)
