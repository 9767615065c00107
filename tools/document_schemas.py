"""Make the JSON Schemas of the commands' documents again: ``python -m tools.document_schemas``.

They come from the types in ``rellum.cli.documents``, one file a command: what it may give, or an error.
"""

from __future__ import annotations

import json
import os
from inspect import cleandoc
from typing import Any

import msgspec

from rellum.cli.document_format import FORMAT, schema_file
from rellum.cli.documents.registry import DOCUMENTS
from rellum.cli.documents.shared import ErrorDocument

_DEFS = "#/$defs/"


def schema_of(command: str) -> dict[str, Any]:
    """Return the schema (draft 2020-12) of what a command prints with ``--json``."""
    types = (*DOCUMENTS[command], ErrorDocument)
    tops, defs = msgspec.json.schema_components(types, ref_template=f"{_DEFS}{{name}}")
    names = [each["$ref"].removeprefix(_DEFS) for each in tops]
    for name, each in defs.items():
        each.pop("title", None)
        if "description" in each:  # msgspec takes the indentation out of it from 0.23 on
            each["description"] = cleandoc(each["description"])
        if name in names:
            each["properties"] = {"format": {"const": FORMAT}, **each["properties"]}
            each["required"] = ["format", *each["required"]]
        each["additionalProperties"] = False
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"rellum {command} --json",
        "anyOf": tops,
        "$defs": dict(sorted(defs.items())),
    }


def text_of(command: str) -> str:
    """Return the schema's text."""
    return json.dumps(schema_of(command), indent=1, ensure_ascii=False) + "\n"


def main() -> None:
    """Write all."""
    for command in DOCUMENTS:
        os.makedirs(os.path.dirname(schema_file(command)), exist_ok=True)
        with open(schema_file(command), "w", encoding="utf-8", newline="\n") as file:
            file.write(text_of(command))


if __name__ == "__main__":
    main()
