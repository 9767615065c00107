"""What a card says of edits: files that a release changes instead of bringing them whole."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import get_args

from rellum.core.catalog.model import ChosenOptions, EditForm, FileEdit
from rellum.core.catalog.sheets import parse_digest
from rellum.core.catalog.tables import TableReader
from rellum.core.paths import PlacePath, parse_place_path


def read_edit(
    reader: TableReader, places: Mapping[str, PlacePath], options: ChosenOptions
) -> FileEdit | None:
    """Read a ``[[release.edit]]``, noting every fault; None where it cannot be used."""
    path = reader.parsed(
        "file", "@data/sea.ini", partial(parse_place_path, places=places), required=True
    )
    form = reader.text("by", "diff", required=True)
    known = get_args(EditForm)
    if form is not None and form not in known:
        reader.fault(f"{form!r} is no form of an edit; it is one of {', '.join(known)}", "by")
    member = reader.text("with", "patches/sea.diff", required=True)
    fuzz = reader.integer("fuzz", 1) or 0
    over = reader.parsed("over", "64 hexadecimal digits", parse_digest)
    gives = reader.parsed("gives", "64 hexadecimal digits", parse_digest)
    reader.finish()
    if path is None or form is None or member is None or form not in known:
        return None
    return FileEdit(
        path=path,
        form=next(each for each in known if each == form),
        member=member,
        fuzz=fuzz,
        over=over,
        gives=gives,
        options=options,
        source=reader.source,
    )
