"""Unified diffs, read and applied as GNU patch does: offsets, and fuzz where it is allowed.

The form is that of ``diff -u`` (POSIX diff, with ``\\ No newline at end of file``). Lines are bytes with
their ends, so that CRLF files stay as they are.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from rellum.core.patching.model import PatchFault

_HEAD = re.compile(rb"^@@ -(\d{1,18})(?:,(\d{1,18}))? \+(\d{1,18})(?:,(\d{1,18}))? @@")
_NO_NEWLINE = b"\\"
_ESCAPES = {
    b"n": b"\n",
    b"t": b"\t",
    b"r": b"\r",
    b"a": b"\a",
    b"b": b"\b",
    b"f": b"\f",
    b"v": b"\v",
}
_UNREAD = (b"rename from ", b"copy from ", b"GIT binary patch", b"Binary files ")


@dataclass(frozen=True, slots=True, kw_only=True)
class Hunk:
    """One hunk: lines of context, lines that go, lines that come, in order.

    ``first`` is the line of the old file, counted from 1, at which it begins; ``line`` that of the
    diff. ``body`` pairs a sign (space, minus, plus) with a line.
    """

    first: int
    line: int
    body: tuple[tuple[bytes, bytes], ...]

    @property
    def old(self) -> list[bytes]:
        """The lines that must be there."""
        return [text for sign, text in self.body if sign != b"+"]

    def context_before(self) -> int:
        """How many lines of context it begins with."""
        return next((n for n, (sign, _) in enumerate(self.body) if sign != b" "), len(self.body))

    def context_after(self) -> int:
        """How many lines of context it ends with."""
        signs = [sign for sign, _ in reversed(self.body)]
        return next((n for n, sign in enumerate(signs) if sign != b" "), len(signs))


@dataclass(frozen=True, slots=True, kw_only=True)
class FileDiff:
    """The hunks for one file; names as the diff has them, without their times.

    ``is_new``: there is no old file; ``is_gone``: there is no new one. A diff says so by the name
    ``/dev/null``, or by the first moment of all times.
    """

    old_name: str
    new_name: str
    hunks: tuple[Hunk, ...]
    is_new: bool = False
    is_gone: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Applied:
    """What a file became, and for each hunk how far from its place and how loosely it fitted."""

    content: bytes
    offsets: tuple[int, ...]
    fuzz: tuple[int, ...]


def read_diff(diff: bytes, name: str) -> tuple[FileDiff, ...]:
    """Read a diff of one or more files; what stands between them is passed over.

    ``name`` stands for the diff in messages. Raises PatchFault with the line of what cannot be read.
    """
    lines = _by_newline(diff)
    found: list[FileDiff] = []
    at = 0
    while at < len(lines):
        is_head = lines[at].startswith(b"--- ") and lines[at + 1 : at + 2] != []
        if is_head and lines[at + 1].startswith(b"+++ "):
            old, new = _file_name(lines[at]), _file_name(lines[at + 1])
            head = at
            hunks, at = _read_hunks(lines, at + 2, name)
            is_new, is_gone = _is_nothing(lines[head]), _is_nothing(lines[head + 1])
            found.append(
                FileDiff(old_name=old, new_name=new, hunks=hunks, is_new=is_new, is_gone=is_gone)
            )
        elif _HEAD.match(lines[at]):
            if found:
                raise PatchFault(f"{name}:{at + 1}: a hunk longer than its first line says")
            hunks, at = _read_hunks(lines, at, name)
            found.append(FileDiff(old_name="", new_name="", hunks=hunks))
        else:
            at += 1
    if not found:
        raise PatchFault(f"{name}: holds no unified diff")
    return tuple(found)


def refuse_unread(diff: bytes, name: str) -> None:
    """Refuse a diff that tells of more than its hunks: it would be applied in part. Raises PatchFault."""
    for number, line in enumerate(_by_newline(diff), 1):
        if line.startswith(_UNREAD):
            said = line.decode("utf-8", "replace").strip()
            raise PatchFault(
                f"{name}:{number}: {said!r} is not read here: only changed, new and deleted texts are",
                hint="Make the diff without renames, and bring other files whole.",
            )
    lines = _by_newline(diff)
    for mark, nothing in ((b"new file mode", b"--- "), (b"deleted file mode", b"+++ ")):
        marked = sum(line.startswith(mark) for line in lines)
        if marked > sum(line.startswith(nothing) and _is_nothing(line) for line in lines):
            raise PatchFault(
                f"{name}: it makes or deletes an empty file, which a diff has no hunk for",
                hint="Bring the file by a [[release.place]], or take it away by 'removes'.",
            )


def _is_nothing(line: bytes) -> bool:
    """Whether the name in a line of a diff stands for no file."""
    name, _, time = line[4:].rstrip(b"\r\n").partition(b"\t")
    return name.strip() == b"/dev/null" or time.startswith((b"1970-01-01 ", b"1969-12-31 "))


def _by_newline(content: bytes) -> list[bytes]:
    return re.findall(rb"[^\n]*\n|[^\n]+", content)


def _file_name(line: bytes) -> str:
    text = line[4:].rstrip(b"\r\n").partition(b"\t")[0].strip()
    if len(text) > 1 and text[:1] == text[-1:] == b'"':  # quoted as texts in C are
        text = re.sub(rb"\\([0-7]{1,3}|.)", _unquoted, text[1:-1])
    return text.decode("utf-8", "replace")


def _unquoted(found: re.Match[bytes]) -> bytes:
    sign = found[1]
    return bytes([int(sign, 8) & 0xFF]) if sign[:1] in b"01234567" else _ESCAPES.get(sign, sign)


def _read_hunks(lines: Sequence[bytes], at: int, name: str) -> tuple[tuple[Hunk, ...], int]:
    hunks = []
    while at < len(lines) and (head := _HEAD.match(lines[at])):
        first = int(head[1])
        old_left = int(head[2]) if head[2] else 1
        new_left = int(head[4]) if head[4] else 1
        head_at = at
        # A hunk without old lines names the line before it.
        first += old_left == 0
        body: list[tuple[bytes, bytes]] = []
        at += 1
        while old_left or new_left:
            sign, text = _line_of_hunk(lines, at, name)
            if sign == _NO_NEWLINE:
                _cut_newline(body)
            else:
                old_left -= sign != b"+"
                new_left -= sign != b"-"
                body.append((sign, text))
            if old_left < 0 or new_left < 0:
                raise PatchFault(
                    f"{name}:{at + 1}: the hunk of line {head_at + 1} has other lines than it says"
                )
            at += 1
        if at < len(lines) and lines[at].startswith(_NO_NEWLINE):
            _cut_newline(body)
            at += 1
        hunks.append(Hunk(first=first, line=head_at + 1, body=tuple(body)))
    if not hunks:
        raise PatchFault(f"{name}:{at + 1}: there is no hunk after the names of the files")
    return tuple(hunks), at


def _line_of_hunk(lines: Sequence[bytes], at: int, name: str) -> tuple[bytes, bytes]:
    if at >= len(lines):
        raise PatchFault(f"{name}:{at}: it ends in the middle of a hunk")
    line = lines[at]
    sign, text = line[:1], line[1:]
    if sign in (b" ", b"+", b"-", _NO_NEWLINE):
        return sign, text
    if line in (b"\n", b"\r\n"):  # a program took the space off an empty line of context
        return b" ", line
    raise PatchFault(f"{name}:{at + 1}: this is no line of a hunk: {line[:40]!r}")


def _cut_newline(body: list[tuple[bytes, bytes]]) -> None:
    if body:
        sign, text = body[-1]
        body[-1] = (sign, text.removesuffix(b"\n"))


def patch_text(content: bytes, diff: bytes, name: str, fuzz: int = 0) -> bytes:
    """Return a text with a diff of one file applied; see ``apply_diff``. Raises PatchFault."""
    diffs = read_diff(diff, name)
    if len(diffs) != 1:
        raise PatchFault(
            f"{name}: is a diff of {len(diffs)} files, and an edit is of one",
            hint="Write 'folder' instead of 'file': the diff then tells which files it is of.",
        )
    return apply_diff(content, diffs[0], name, fuzz).content


def apply_diff(content: bytes, diff: FileDiff, name: str, fuzz: int = 0) -> Applied:
    """Apply all hunks to a file's content, each where it fits nearest to its place.

    ``fuzz`` is how many lines of context may be passed over at each end. Raises PatchFault with every
    hunk that does not fit; ``name`` stands for the diff.
    """
    return _Applier(_by_newline(content)).apply(diff, name, fuzz)


class _Applier:
    """Goes through the hunks from the top; what is before ``frozen`` has been written."""

    def __init__(self, lines: list[bytes]) -> None:
        self.lines = lines
        self.frozen = 0
        self.offset = 0
        self.written: list[bytes] = []

    def apply(self, diff: FileDiff, name: str, fuzz: int) -> Applied:
        """Apply the hunks. Raises PatchFault."""
        offsets, fuzzes, refused = [], [], []
        for hunk in diff.hunks:
            found = self._locate(hunk, fuzz)
            if found is None:
                refused.append(hunk)
                continue
            at, loose = found
            offsets.append(at - (hunk.first - 1))
            fuzzes.append(loose)
            self._write(hunk, at)
        if refused:
            raise _refusal(name, diff, refused, fuzz)
        self.written += self.lines[self.frozen :]
        # A line that lost its end to the diff gets one where others follow it after all.
        body = [each if each.endswith(b"\n") else each + b"\n" for each in self.written[:-1]]
        content = b"".join([*body, *self.written[-1:]])
        return Applied(content=content, offsets=tuple(offsets), fuzz=tuple(fuzzes))

    def _locate(self, hunk: Hunk, most_fuzz: int) -> tuple[int, int] | None:
        """Return the index of the first line that a hunk fits at, and the fuzz that it took."""
        longest = max(hunk.context_before(), hunk.context_after())
        for fuzz in range(min(most_fuzz, longest) + 1):
            at = self._locate_with(hunk, fuzz)
            if at is not None:
                self.offset = at - (hunk.first - 1)
                return at, fuzz
        return None

    def _locate_with(self, hunk: Hunk, fuzz: int) -> int | None:
        before, after = hunk.context_before(), hunk.context_after()
        longest = max(before, after)
        # Less context at one end than at the other: the file began, or ended, there.
        cut_before, cut_after = fuzz + before - longest, fuzz + after - longest
        old = hunk.old
        guess = hunk.first - 1 + self.offset
        if not old:
            return min(max(guess, self.frozen), len(self.lines))
        last = len(self.lines) - len(old)
        if cut_before < 0 and hunk.first <= 1:
            if cut_after < 0 and len(old) != len(self.lines):
                return None
            return 0 if self._fits(old, 0, 0, max(0, cut_after)) else None
        if cut_after < 0:
            return last if self._fits(old, last, max(0, cut_before), 0) else None
        return next(
            (
                at
                for at in self._nearest(guess, last + max(0, cut_after))
                if self._fits(old, at, max(0, cut_before), cut_after)
            ),
            None,
        )

    def _nearest(self, guess: int, last: int) -> Iterator[int]:
        """Yield the places from the one guessed outwards, later ones first."""
        for away in range(max(last - guess, guess - self.frozen, 0) + 1):
            if guess + away <= last:
                yield guess + away
            if away and guess - away >= self.frozen:
                yield guess - away

    def _fits(self, old: Sequence[bytes], at: int, skip_before: int, skip_after: int) -> bool:
        end = len(old) - skip_after
        if at < self.frozen or at + end > len(self.lines):
            return False
        return self.lines[at + skip_before : at + end] == list(old[skip_before:end])

    def _write(self, hunk: Hunk, at: int) -> None:
        """Write what is before each change, and the change.

        Context is as the file has it; what follows the last change may be context of the next hunk.
        """
        index = at
        for sign, text in hunk.body:
            if sign != b" ":
                self.written += self.lines[self.frozen : index]
                self.frozen = max(self.frozen, min(index, len(self.lines)))
            if sign == b"+":
                self.written.append(text)
                continue
            index += 1
            if sign == b"-":
                self.frozen = index


def _refusal(name: str, diff: FileDiff, refused: Sequence[Hunk], fuzz: int) -> PatchFault:
    details = []
    for hunk in refused:
        details.append(f"{name}:{hunk.line}: no such lines in the file:")
        details += [
            f"  {sign.decode()}{text.decode('utf-8', 'replace').rstrip()}"
            for sign, text in hunk.body[:8]
        ]
    count = "1 hunk does" if len(refused) == 1 else f"{len(refused)} hunks do"
    return PatchFault(
        f"{name}: {count} not fit {diff.old_name or 'the file'}",
        details=tuple(details),
        hint="It is for another version of the file."
        + ("" if fuzz else " With 'fuzz' in the card some lines of context may differ."),
    )
