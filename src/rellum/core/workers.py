"""Two processes for work that consists of small reads.

Reading 100,000 directory entries or hashing 20,000 small files spends its time in Python between
system calls, where threads only hinder one another; a second process halves it. The child only
reads and sends back a picklable result, so that it can be lost at any moment without harm.
Where there is no ``fork`` the work is done in this process.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TypeVar

Result = TypeVar("Result")


def run_both(first: Callable[[], Result], second: Callable[[], Result]) -> tuple[Result, Result]:
    """Return the results of both calls; the second runs in a child process where that is possible.

    An exception in the child is raised here. The child ends with this process, however that ends.
    """
    if not hasattr(os, "fork"):
        return first(), second()
    import pickle

    read_end, write_end = os.pipe()
    life_line, held = os.pipe()  # its other end closes as this process ends
    child = os.fork()
    if child == 0:
        os.close(read_end)
        os.close(held)
        _end_with_parent(life_line)
        _work_as_child(second, write_end)
    os.close(write_end)
    os.close(life_line)
    try:
        mine = first()
        with open(read_end, "rb", closefd=False) as pipe:
            answer = pipe.read()
    finally:
        os.close(read_end)
        os.close(held)  # where the first call failed, nobody waits for the second
        os.waitpid(child, 0)
    if not answer:
        raise OSError("a helper process ended before its work was done")
    theirs = pickle.loads(answer)
    if isinstance(theirs, BaseException):
        raise theirs
    return mine, theirs


def _end_with_parent(life_line: int) -> None:
    """Let this process end as soon as the other end of a pipe is closed."""
    from threading import Thread

    def wait() -> None:
        os.read(life_line, 1)
        os._exit(1)

    Thread(target=wait, daemon=True).start()


def _work_as_child(work: Callable[[], object], write_end: int) -> None:
    """Do the work, send its result or its exception, and leave without any clean-up of the parent's."""
    import pickle

    try:
        try:
            answer = pickle.dumps(work(), pickle.HIGHEST_PROTOCOL)
        except BaseException as error:
            answer = pickle.dumps(error)
        with open(write_end, "wb", closefd=False) as pipe:
            pipe.write(answer)
    finally:
        os._exit(0)
