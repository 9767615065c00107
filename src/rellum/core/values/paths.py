"""Place paths: where a file belongs, checked once when it enters and a type of its own from then on.

A place path is written ``@game/mods/x.dat``. Inside Rellum every path is *canonical*: named
places such as ``@mods`` are already replaced by the root they lie under (``@game``), so that two
spellings of one file are one path. Names taken from archives and cards must be such that every
operating system can hold them; names found in the game folder are taken as they are.
"""

import os
import re
from collections.abc import Iterator, Mapping
from functools import cache
from typing import NamedTuple, NewType, TypeVar

from rellum.core.errors import UserError

Choice = TypeVar("Choice")

PlacePath = NewType("PlacePath", str)
"""A canonical path, for example ``@game/data/sea.dat``; no part is empty, ``.`` or ``..``."""

MemberPath = NewType("MemberPath", str)
"""A checked relative path inside an archive, parts joined by ``/``."""

CONTAINER_SIGN = "!/"
"""How cards write a member of a container: ``@game/data/core.pak!/maps/north.map``."""

# A container is a file, and has an ending: a folder called 'Wow!' is none.
_CONTAINER = r"(?P<container>.*/[^/]*\.[A-Za-z0-9]{1,8})!(?:/(?P<member>.*))?"


class MemberPlace(NamedTuple):
    """A member of a container in the game, or a folder in it; ``member`` is empty for its top."""

    container: PlacePath
    member: MemberPath

    def __str__(self) -> str:
        return f"{self.container}{CONTAINER_SIGN}{self.member}"


TargetPath = PlacePath | MemberPlace
"""Where a layer puts something: a file of its own, or a member of a container."""

GAME = "@game"
GAME_PREFIX = "@game/"

# Names that Windows keeps for devices, whatever their ending.
_DEVICE_NAMES = frozenset(
    ["con", "prn", "aux", "nul", "conin$", "conout$"]
    + [f"com{digit}" for digit in "123456789¹²³"]
    + [f"lpt{digit}" for digit in "123456789¹²³"]
)
_FORBIDDEN_VISIBLE = '<>:"|?*\\'
_CONTROL = r"[\x00-\x1f\x7f-\x9f]"
_FORBIDDEN_SIGN = f"[\\x00-\\x1f\\x7f{re.escape(_FORBIDDEN_VISIBLE)}]"


class UnsafePath(UserError):
    """A path from outside leaves its place, or has a name that some system cannot hold."""

    code = "unsafe-path"


@cache
def _expression(text: str) -> re.Pattern[str]:
    """Return an expression, made at its first use: short commands need none."""
    return re.compile(text)


def fault_in_name(name: str) -> str:
    """Say why one part of a path cannot be used, or return an empty string."""
    if name in ("", ".", ".."):
        return f"{name!r} is not a name"
    if bad := _expression(_FORBIDDEN_SIGN).search(name):
        if bad.group() in _FORBIDDEN_VISIBLE:
            return f"it contains {bad.group()!r}, which some systems cannot store"
        return "it holds a control character"
    if name[-1] in ". ":
        return "it ends in a dot or a space, which some systems drop"
    if name.split(".")[0].rstrip().lower() in _DEVICE_NAMES:
        return "some systems keep that name for a device"
    if len(name.encode("utf-8", "surrogatepass")) > 255:
        return "it is longer than 255 bytes"
    return ""


def fault_in_relative(text: str) -> str:
    """Say why ``text`` is not a relative path inside its place, or return an empty string."""
    if text.startswith("/"):
        return "it is absolute"
    if len(text) > 1 and text[1] == ":":
        return "it begins with a drive letter"
    if ".." in text.split("/"):
        return "it leaves its place by '..'"
    for name in text.split("/"):
        if fault := fault_in_name(name):
            return fault
    return ""


def parse_member_path(text: str) -> MemberPath:
    """Check the name of an archive's member. Back slashes count as separators. Raises UnsafePath."""
    relative = text.replace("\\", "/").rstrip("/")
    if fault := fault_in_relative(relative):
        raise UnsafePath(f"the path {text!r} cannot be used: {fault}")
    return MemberPath(relative)


def parse_place_path(text: str, places: Mapping[str, PlacePath]) -> PlacePath:
    """Read ``@place/rest`` into its canonical form; a trailing slash is allowed.

    ``places`` maps the sheet's place names, without ``@``, to canonical paths. Raises UnsafePath.
    """
    head, _, rest = text.rstrip("/").partition("/")
    if head == GAME:
        base = PlacePath(GAME)
    elif head.startswith("@") and head[1:] in places:
        base = places[head[1:]]
    else:
        known = ", ".join([GAME, *(f"@{name}" for name in sorted(places))])
        raise UnsafePath(f"{text!r} does not begin with a place that is known here ({known})")
    if not rest:
        return base
    if fault := fault_in_relative(rest):
        raise UnsafePath(f"the path {text!r} cannot be used: {fault}")
    return PlacePath(f"{base}/{rest}")


def parse_target_path(text: str, places: Mapping[str, PlacePath]) -> TargetPath:
    """Read where a card puts something: ``@place/rest`` or ``@place/file.pak!/member``. Raises UnsafePath."""
    found = _expression(_CONTAINER).fullmatch(text.rstrip("/"))
    if found is None:
        return parse_place_path(text, places)
    container = parse_place_path(found["container"], places)
    member = found["member"] or ""
    if member and (fault := fault_in_relative(member)):
        raise UnsafePath(f"the path {text!r} cannot be used: {fault}")
    return MemberPlace(container, MemberPath(member))


def container_pattern(pattern: str) -> tuple[PlacePath, str] | None:
    """Return the container, and the pattern of its members, that a pattern means; None for one of files."""
    found = _expression(_CONTAINER).fullmatch(pattern)
    if found is None or found["member"] is None:
        return None
    return PlacePath(found["container"]), found["member"]


def parse_place_pattern(text: str, places: Mapping[str, PlacePath]) -> str:
    """Read a pattern over place paths, such as ``@mods/tides/**``. Raises UnsafePath.

    A trailing slash stands for everything in the folder.
    """
    head = text.partition("/")[0]
    plain = re.sub(r"[*?]+", "x", text)
    base = parse_place_path(plain, places).split("/")
    depth = len(plain.rstrip("/").split("/")) - 1
    root = "/".join(base[: len(base) - depth])
    return f"{root}{text[len(head) :]}" + ("**" if text.endswith("/") else "")


def refuse_no_text(folder: str, what: str) -> None:
    """Raise UnsafePath for a folder that must be named in a file, and whose path is no Unicode text."""
    if not is_text(folder):
        raise UnsafePath(
            f"the path of {what} is no Unicode text: {shown(folder)}",
            hint="Rename that folder: packs are UTF-8 text, and have to name it.",
        )


def is_text(name: str) -> bool:
    """Whether a name found on disk is Unicode text: the state holds no other."""
    return name.isascii() or not any("\udc80" <= sign <= "\udcff" for sign in name)


Path = TypeVar("Path", PlacePath, MemberPlace, PlacePath | MemberPlace)


def below(base: Path, relative: str) -> Path:
    """Return the path of ``relative``, already checked, under ``base``."""
    if not relative:
        return base
    if isinstance(base, MemberPlace):
        member = f"{base.member}/{relative}" if base.member else relative
        return MemberPlace(base.container, MemberPath(member))
    return PlacePath(f"{base}/{relative}")


def file_of(path: TargetPath) -> PlacePath:
    """Return the file that a path means: itself, or the container that it is a member of."""
    return path.container if isinstance(path, MemberPlace) else path


def parents(path: PlacePath) -> Iterator[PlacePath]:
    """Yield the folders above ``path``, the nearest first, down to its root."""
    while (cut := path.rfind("/")) > 0:
        path = PlacePath(path[:cut])
        yield path


def choice_for(path: TargetPath, chosen: Mapping[PlacePath, Choice]) -> Choice | None:
    """Return what was chosen for a path itself, else for the nearest folder above it."""
    if not chosen:
        return None
    file = file_of(path)
    return next((chosen[each] for each in (file, *parents(file)) if each in chosen), None)


def shown(path: str | MemberPlace) -> str:
    """Return the path as people see it: relative to the game folder where it lies there.

    Bytes of a name that are no text, and signs that would break a line, are written as codes.
    """
    path = str(path).removeprefix(GAME_PREFIX)
    if path.isascii() and path.isprintable():
        return path
    text = path.encode("utf-8", "backslashreplace").decode("utf-8")
    return _expression(_CONTROL).sub(lambda sign: repr(sign.group())[1:-1], text)


def shown_file(file: str) -> str:
    """Return the path of any file as messages show it: from the current folder, if that is shorter."""
    try:
        relative = os.path.relpath(file)
    except ValueError:  # another drive
        return file
    return min(relative, file, key=len)


def root_of(path: TargetPath) -> str:
    """Return the root that a path lies under: ``@game``, or a place outside the game folder."""
    return file_of(path).partition("/")[0]


def is_in_game(path: TargetPath) -> bool:
    """Whether a path lies in the game folder."""
    file = file_of(path)
    return file.startswith(GAME_PREFIX) or file == GAME


def is_inside(inner: str, outer: str) -> bool:
    """Whether a folder is another one, or lies in it, links followed."""
    return lies_in(resolved(inner), resolved(outer))


def resolved(folder: str) -> str:
    """Return where a folder really is, links followed, as this system compares paths."""
    return os.path.normcase(os.path.realpath(folder))


def lies_in(inner: str, outer: str) -> bool:
    """Whether a folder is another one, or lies in it; both are resolved."""
    return inner == outer or inner.startswith(outer.rstrip(os.sep) + os.sep)


class Roots:
    """Where the roots of place paths lie on this machine: ``@game``, and places outside of it."""

    def __init__(self, game_folder: str, outside: Mapping[str, str] | None = None) -> None:
        """``outside`` maps roots such as ``@settings`` to their folders."""
        self.game_folder = os.path.abspath(game_folder)
        self.outside = {root: os.path.abspath(each) for root, each in (outside or {}).items()}

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, Roots)
            and self.game_folder == other.game_folder
            and self.outside == other.outside
        )

    __hash__ = None  # type: ignore[assignment]

    def folder_of(self, path: PlacePath) -> str:
        """Return the folder of the root that a path lies under."""
        root = root_of(path)
        return self.game_folder if root == GAME else self.outside[root]

    def absolute(self, path: PlacePath) -> str:
        """Return the path in the operating system's form."""
        return self.folder_of(path) + path[len(root_of(path)) :].replace("/", os.sep)

    def place_path(self, absolute: str) -> PlacePath | None:
        """Return the place path of an absolute path, or None where it is under no root."""
        for root, folder in ((GAME, self.game_folder), *self.outside.items()):
            try:
                relative = os.path.relpath(absolute, folder).replace(os.sep, "/")
            except ValueError:  # another drive
                continue
            if relative == ".":
                return PlacePath(root)
            if not (relative == ".." or relative.startswith("../") or os.path.isabs(relative)):
                return PlacePath(f"{root}/{relative}")
        return None
