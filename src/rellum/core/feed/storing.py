"""Where a feed is written to. An object is added and never changed; only the timestamp is written over."""

from __future__ import annotations

import os
import shutil
import time
from abc import ABC, abstractmethod

from rellum.core.durable import flush_file, write_durably
from rellum.core.errors import UserError
from rellum.core.feed.reading import FeedReader, FolderReader

UNFINISHED = ".unfinished-"
_OLD = 3600
"""Seconds after which what is unfinished is nobody's work any more."""


class AlreadyPublished(UserError):
    """Somebody else published this version of the feed in the meantime."""

    code = "already-published"


class FeedStore(ABC):
    """A place for a feed's objects."""

    @abstractmethod
    def put(self, name: str, content: bytes) -> None:
        """Write an object that is named by its hash; one that is there stays. Raises OSError."""

    @abstractmethod
    def put_file(self, name: str, file: str) -> None:
        """Write a file as an object that is named by its hash, piece by piece. Raises OSError."""

    @abstractmethod
    def claim(self, name: str, content: bytes) -> None:
        """Write an object that only one curator may write. Raises AlreadyPublished, OSError."""

    @abstractmethod
    def replace(self, name: str, content: bytes) -> None:
        """Write an object over the one that is there. Raises OSError."""

    @abstractmethod
    def reader(self) -> FeedReader:
        """Return what reads what is there."""


class FolderStore(FeedStore):
    """A feed in a folder, from which any web server can serve it."""

    def __init__(self, folder: str) -> None:
        self.folder = os.path.abspath(folder)

    def tidy(self) -> None:
        """Remove unfinished files that a killed publish left more than an hour ago. Raises OSError."""
        for above, _, names in os.walk(self.folder):
            for name in names:
                path = os.path.join(above, name)
                is_unfinished = name.endswith(".rellum-new") or UNFINISHED in name
                if is_unfinished and os.path.getmtime(path) < time.time() - _OLD:
                    os.unlink(path)

    def _path(self, name: str) -> str:
        path = os.path.join(self.folder, *name.split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        return path

    def put(self, name: str, content: bytes) -> None:
        path = self._path(name)
        if not os.path.exists(path) or os.path.getsize(path) != len(content):
            write_durably(path, content)

    def put_file(self, name: str, file: str) -> None:
        path = self._path(name)
        if not os.path.exists(path) or os.path.getsize(path) != os.path.getsize(file):
            unfinished = f"{path}{UNFINISHED}{os.getpid()}"
            shutil.copyfile(file, unfinished)
            flush_file(unfinished)
            os.replace(unfinished, path)

    def claim(self, name: str, content: bytes) -> None:
        path = self._path(name)
        unfinished = f"{path}{UNFINISHED}{os.getpid()}"
        write_durably(unfinished, content)
        try:
            os.link(unfinished, path)
        except FileExistsError as error:
            raise AlreadyPublished(
                f"{path} is there already: somebody else publishes this version, or began to",
                hint="Publish again: yours becomes the next version. If theirs was broken off: --take-over",
            ) from error
        except (
            OSError
        ):  # a file system without links: nobody else can be writing at the same moment
            os.replace(unfinished, path)
            return
        finally:
            if os.path.exists(unfinished):
                os.unlink(unfinished)

    def replace(self, name: str, content: bytes) -> None:
        write_durably(self._path(name), content)

    def reader(self) -> FeedReader:
        return FolderReader(self.folder)
