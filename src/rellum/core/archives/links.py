"""Links inside an archive: each becomes a copy of its target, which must be in the archive, too.

Nothing that Rellum lays is a link: systems differ in who may make one, and one can be turned elsewhere
after it was checked.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from rellum.core.archives.gate import Gate, Link
from rellum.core.archives.model import Member
from rellum.core.values.paths import MemberPath

MOST_STEPS = 40
"""So many links may be followed on the way to one file, as in POSIX systems (SYMLOOP_MAX)."""


def with_links(members: Sequence[Member], gate: Gate) -> tuple[Member, ...]:
    """Return an archive's members, and a copy for each link that the gate noted, or for each file of the
    folder that it points to. Raises ArchiveFault for a link that leads out, nowhere or into itself.
    """
    if not gate.links:
        return tuple(members)
    links = _Links(members, gate)
    copies = [copy for link in gate.links.values() for copy in links.copies(link)]
    return (*members, *copies)


def links_laid(copies: int) -> str:
    """Say how links of an archive are laid, by how many files they are."""
    if copies == 1:
        return "a link in it becomes a copy of its target"
    return f"links in it become {copies:,} copies of their targets"


class _Links:
    def __init__(self, members: Sequence[Member], gate: Gate) -> None:
        self._gate = gate
        self._files: Mapping[str, Member] = {member.path: member for member in members}
        named = [*self._files, *gate.links, *(f"{folder}/" for folder in gate.named_folders)]
        self._folders = {
            path[:cut] for path in named for cut, sign in enumerate(path) if sign == "/"
        }

    def copies(self, link: Link) -> Iterator[Member]:
        """Yield what stands at a link's path, and below it."""
        for path, original in self._at(link.path, link, ()):
            self._gate.admit(path, original.size)
            yield replace(original, path=MemberPath(path), copy_of=original.path)

    def _at(self, path: str, link: Link, within: tuple[str, ...]) -> Iterator[tuple[str, Member]]:
        """Yield what a link gives, under its final name, for a link at ``path``."""
        target = self._followed(link)
        if target in self._files:
            yield path, self._files[target]
            return
        below = f"{target}/" if target else ""
        if f"{link.path}/".startswith(below) or target in within or len(within) >= MOST_STEPS:
            raise self._gate.refuse(f"the member {link.path!r} is a link that leads to itself")
        found = False
        for file, member in self._files.items():
            if file.startswith(below):
                found = True
                yield f"{path}/{file[len(below) :]}", member
        for other in self._gate.links.values():
            if other.path.startswith(below):
                found = True
                rest = other.path[len(below) :]
                yield from self._at(f"{path}/{rest}", other, (*within, target))
        if not found:
            raise self._leads_nowhere(link)

    def _followed(self, link: Link) -> str:
        """Return where a link leads in the end: a path in the archive with no link in it."""
        done = [] if link.from_top else link.path.split("/")[:-1]
        pending = _parts(link.target)
        steps = 1
        if link.target.startswith(("/", "\\")) or link.target[1:2] == ":":
            raise self._leads_out(link)
        while pending:
            part = pending.pop()
            if part in ("", "."):
                continue
            if part == "..":
                if not done:
                    raise self._leads_out(link)
                if "/".join(done) not in self._folders:
                    raise self._leads_nowhere(link)
                done.pop()
                continue
            done.append(part)
            other = self._gate.links.get("/".join(done))
            if other is None:
                continue
            steps += 1
            if steps > MOST_STEPS:
                raise self._gate.refuse(
                    f"the member {link.path!r} goes through more than {MOST_STEPS} links"
                )
            if other.target.startswith("/"):
                raise self._leads_out(other)
            done = [] if other.from_top else done[:-1]
            pending += _parts(other.target)
        return "/".join(done)

    def _leads_nowhere(self, link: Link) -> Exception:
        return self._gate.refuse(
            f"the member {link.path!r} is a link to {link.target!r}, which is not in the archive"
        )

    def _leads_out(self, link: Link) -> Exception:
        return self._gate.refuse(
            f"the member {link.path!r} is a link that leads out of the archive (to {link.target!r})"
        )


def _parts(target: str) -> list[str]:
    """Return the parts of a path, the first one last."""
    return target.split("/")[::-1]
