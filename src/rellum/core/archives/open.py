"""Opening an archive of any kind."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from rellum.core.archives.forms import (
    A_PAGE,
    HEAD_BYTES,
    PROGRAM,
    form_of,
    inner_of_ar,
    known_form,
    what_instead,
)
from rellum.core.archives.model import (
    AGAIN,
    STANDARD_LIMITS,
    Archive,
    ArchiveFault,
    Form,
    Limits,
    NotAnArchive,
)
from rellum.core.joined_file import JoinedFile

_SIGN_IN: Final = (
    "The site probably requires a sign-in and sent this page. Sign in, then download it again."
)
_INSTALLER: Final = (
    "If it installs a mod, let Rellum watch: 'rellum absorb --begin', run it, then "
    "'rellum absorb --as NAME --end' makes a mod of what it installed."
)
KINDS: Final = "zip, tar (gz, bz2, xz, zst), 7z or rar"


def open_archive(
    parts: str | Sequence[str],
    name: str = "",
    *,
    limits: Limits = STANDARD_LIMITS,
    form: Form | None = None,
    encoding: str = "",
) -> Archive:
    """Open an archive of one file or of several parts in order.

    ``name`` stands for it in messages. ``form`` and ``encoding`` are those that were found when it
    was taken; left out, its content tells. Raises ArchiveFault for what is no archive, damaged or
    hostile.
    """
    parts = [parts] if isinstance(parts, str) else list(parts)
    name = name or parts[0]
    if form is None:
        form = _found_form(parts, name)
    return known_form(form).reader_class()(parts, name, limits, form, encoding)


def _found_form(parts: Sequence[str], name: str) -> Form:
    try:
        with JoinedFile(parts) as file:
            if file.size == 0:
                raise ArchiveFault(f"{name}: the file is empty", hint=AGAIN)
            form = form_of(parts)
            head = file.read_at(0, HEAD_BYTES) if form is None else b""
            inside = inner_of_ar(file) if form is None else []
    except OSError as error:
        raise ArchiveFault(f"{name}: cannot be read: {error.strerror}") from error
    if form is None:
        said = what_instead(head)
        if said:
            if said == PROGRAM:
                raise NotAnArchive(f"{name}: {said}", hint=_INSTALLER)
            hint = _SIGN_IN if said.startswith(A_PAGE) else AGAIN
            raise ArchiveFault(f"{name}: {said}", hint=hint)
        if inside:
            raise NotAnArchive(
                f"{name}: is an archive of the kind 'ar', around {_and_words(inside)}",
                hint=f"Unpack it with 'ar x', then take {_likeliest(inside)}.",
            )
        raise NotAnArchive(f"{name}: not an archive that Rellum can read ({KINDS})", hint=AGAIN)
    return form


def _and_words(names: Sequence[str]) -> str:
    shown = names if len(names) <= 5 else [*names[:5], "…"]
    return ", ".join(shown)


def _likeliest(names: Sequence[str]) -> str:
    """Return which inner archive has the files: in a ``.deb``, the one of data."""
    return next((name for name in names if name.startswith("data.")), "what is in it")
