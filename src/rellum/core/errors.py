"""The root of every error that a user can cause or meet.

The tree (each leaf stands beside the code that raises it)::

    RellumError
      UserError      exit status 2: the call or a file is wrong, nothing was changed
      NoAnswer       exit status 1: the question was fair, and the answer is no
      ChangeFailed   exit status 3: the work failed part-way and was rolled back
      Stopped        exit status 130: somebody stopped the command
      BegunOnly      exit status 4: begun, and neither done nor taken back; the next command goes on

A leaf's ``code`` is stable: programs that read ``--json`` may rely on it, and
``docs/errors.md`` lists them all (a test keeps that page true and forbids doubles).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar, Self


class RellumError(Exception):
    """What went wrong, in words for a person.

    ``summary`` says what is wrong and where, ``details`` are further lines (one fault each),
    ``hint`` says what to do next.
    """

    code: ClassVar[str]
    exit_status: ClassVar[int]

    def __init__(self, summary: str, *, details: tuple[str, ...] = (), hint: str = "") -> None:
        super().__init__(summary)
        self.summary = summary
        self.details = details
        self.hint = hint

    def with_hint(self, more: str) -> Self:
        """Return the same error with a further line of what to do."""
        other = type(self).__new__(type(self), *self.args)
        other.__dict__.update(self.__dict__)
        other.hint = f"{self.hint}\n{more}" if self.hint else more
        return other

    def facts(self) -> dict[str, object]:
        """Return what more there is to say to a program, by stable keys."""
        return {}


class UserError(RellumError):
    """The call or a file is wrong; nothing was changed."""

    exit_status = 2


class NoAnswer(RellumError):
    """The answer is no; nothing was changed."""

    exit_status = 1


class ChangeFailed(RellumError):
    """The work failed part-way and was rolled back; nothing was lost."""

    exit_status = 3


class BegunOnly(RellumError):
    """A change is begun and neither done nor taken back; nothing is lost, and the next command goes on."""

    exit_status = 4


class Stopped(RellumError):
    """Somebody stopped the command (Ctrl-C)."""

    code = "stopped"
    exit_status = 130


def all_errors(root: type[RellumError] = RellumError) -> Iterator[type[RellumError]]:
    """Yield every leaf that carries a code, among those imported so far."""
    for child in root.__subclasses__():
        if "code" in vars(child):
            yield child
        yield from all_errors(child)
