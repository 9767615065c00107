"""The edits in a card: files that a release changes instead of bringing whole."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial

from rellum.core.catalog.release_rules import ChosenOptions, FileEdit
from rellum.core.catalog.tables import TableReader
from rellum.core.catalog.written_ids import parse_digest
from rellum.core.patching.keys import form_by_name, settings_forms
from rellum.core.patching.model import Setting, SettingsForm
from rellum.core.patching.patch_forms import EDIT_FORMS, KEYS, PATCH_FORMS, EditForm
from rellum.core.values.paths import PlacePath, parse_target_path


def read_edit(
    reader: TableReader, places: Mapping[str, PlacePath], options: ChosenOptions
) -> FileEdit | None:
    """Read a ``[[release.edit]]``, noting every fault; None where it cannot be used."""
    in_target = partial(parse_target_path, places=places)
    is_series = "folder" in reader
    path = reader.parsed(
        "folder" if is_series else "file", "@data/sea.ini", in_target, required=True
    )
    form = reader.text("by", "diff", required=True)
    if form is not None and form not in EDIT_FORMS:
        reader.fault(f"{form!r} is not a form of edit; use one of {', '.join(EDIT_FORMS)}", "by")
    member = reader.text("with", "patches/sea.diff", required=form != KEYS)
    settings_form, settings = _read_settings(reader, str(path or ""), form)
    fuzz = reader.integer("fuzz", 1) or 0
    strip = _read_strip(reader, form)
    over = reader.parsed("over", "64 hexadecimal digits", parse_digest)
    gives = reader.parsed("gives", "64 hexadecimal digits", parse_digest)
    reader.finish()
    if path is None or form is None or form not in EDIT_FORMS or (member is None and not settings):
        return None
    return FileEdit(
        path=path,
        form=EditForm(form),
        member=member or "",
        fuzz=fuzz,
        over=over,
        gives=gives,
        options=options,
        source=reader.source,
        settings_form=settings_form,
        settings=settings,
        strip=strip,
    )


def _read_strip(reader: TableReader, form: str | None) -> int | None:
    """Read how many folders go off the names in a diff over a folder; None for an edit of one file."""
    strip = reader.integer("strip", 1)
    if "folder" not in reader:
        if strip is not None:
            reader.fault("only for a diff over a 'folder', not for an edit of one file", "strip")
        return None
    series = [each.id for each in PATCH_FORMS if each.is_series]
    if form is not None and form not in series:
        ways = " or ".join(f'by = "{each}"' for each in series)
        reader.fault(f"an edit of a folder is a diff: write '{ways}'", "by")
    for key in ("file", "over", "gives"):
        if key in reader:
            reader.fault("only for an edit of one file, not with 'folder'", key)
    return strip or 0


def _read_settings(
    reader: TableReader, path: str, form: str | None
) -> tuple[SettingsForm | None, tuple[Setting, ...]]:
    """Read the keys that an edit sets (tables are sections) and takes out, and the file's form."""
    text = reader.text("as", "ini")
    if text is not None and text not in settings_forms():
        reader.fault(f"{text!r} is not a form; use one of {', '.join(settings_forms())}", "as")
    table = reader.value("set") if "set" in reader else {}
    settings: list[Setting] = []
    if isinstance(table, dict):
        settings = list(_flattened(table, ()))
    if not isinstance(table, dict) or any(value is None for _, value in settings):
        reader.fault("write a table of keys with texts, numbers, true or false", "set")
    settings += [(tuple(key.split(".")), None) for key in reader.texts("remove", "sea.depth")]
    if form == KEYS and not settings:
        reader.fault("it sets no key and takes none out: write 'set' or 'remove'")
    found = next((each for each in settings_forms() if each == text), form_by_name(path))
    if form == KEYS and found is None:
        reader.fault("the file's ending does not show its form: write 'as'", "file")
    return found, tuple(settings)


def _flattened(table: dict[str, object], above: tuple[str, ...]) -> Iterator[Setting]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _flattened(value, (*above, key))
        else:
            good = isinstance(value, str | int | float | bool)
            yield (*above, key), value if good else None  # type: ignore[misc]
