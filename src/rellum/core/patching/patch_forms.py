"""The forms of patches: a table. To add a form, add a row here and a sample to its test."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import BinaryIO, Final, NamedTuple, NewType

from rellum.core.patching.mapped import Content

EditForm = NewType("EditForm", str)
"""How an edit is written, as a card says it under ``by``."""

KEYS: Final = EditForm("keys")
"""No patch: the card itself sets and removes keys."""

TextPatch = Callable[[bytes, bytes, str, int], bytes]
"""From a text, its patch, the patch's name for messages and the fuzz that is allowed, to the text."""

BinaryPatch = Callable[[Content, Content, BinaryIO, str, int], None]
"""Writes what a patch makes of a file: file, patch, where to, the patch's name, the most bytes."""


class PatchForm(NamedTuple):
    """A form of patch: all that Rellum knows of it.

    function: module and function, below this package, imported when such a patch is applied
    is_binary: whether the function is a ``BinaryPatch``, or a ``TextPatch``
    standard: what describes it
    marks: what such patches begin with; empty: no fixed bytes
    is_series: one patch may be of several files of a folder
    version: counts how often Rellum has changed what it makes of a patch
    """

    id: EditForm
    function: str
    is_binary: bool
    standard: str
    marks: tuple[bytes, ...] = ()
    is_series: bool = False
    version: int = 1

    def _found(self) -> Callable[..., object]:
        module, _, name = self.function.partition(":")
        found: Callable[..., object] = getattr(
            import_module(f"rellum.core.patching.{module}"), name
        )
        return found

    def text_patch(self) -> TextPatch:
        """Return the function of a form for texts."""
        assert not self.is_binary
        return self._found()  # type: ignore[return-value]

    def binary_patch(self) -> BinaryPatch:
        """Return the function of a form for bytes."""
        assert self.is_binary
        return self._found()  # type: ignore[return-value]


PATCH_FORMS: Final = (
    PatchForm(
        EditForm("diff"), "unified:patch_text", False, "unified diff (POSIX)", is_series=True
    ),
    PatchForm(
        EditForm("json-patch"), "json_patch:patch_json", False, "JSON Patch (RFC 6902)", version=2
    ),
    PatchForm(
        EditForm("json-merge"), "json_patch:merge_json", False, "JSON Merge Patch (RFC 7396)"
    ),
    PatchForm(
        EditForm("vcdiff"), "vcdiff:apply_vcdiff", True, "VCDIFF (RFC 3284)", (b"\xd6\xc3\xc4",)
    ),
    PatchForm(
        EditForm("zstd"),
        "zstd_patch:apply_zstd",
        True,
        "Zstandard with the old file as reference (RFC 8878)",
        (b"\x28\xb5\x2f\xfd",),
    ),
)

_BY_ID: Final = {form.id: form for form in PATCH_FORMS}
EDIT_FORMS: Final = (*_BY_ID, KEYS)
"""What a card may write under ``by``."""


def patch_form(form: EditForm) -> PatchForm:
    """Return what is known of a form of patch. Raises KeyError for ``keys``."""
    return _BY_ID[form]


def form_by_mark(head: bytes) -> PatchForm | None:
    """Return the form whose patches begin like that; None where no form tells."""
    return next((each for each in PATCH_FORMS if each.marks and head.startswith(each.marks)), None)
