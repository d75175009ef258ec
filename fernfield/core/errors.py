"""The errors of Fern Field. Each message says the argument, what is allowed, and what came.

FernError
├── InvalidInput      a value outside what is allowed (also a ValueError)
│   ├── GridError     a grid, window or array of the wrong shape
│   └── FormatError   a file that is not what it says, or is damaged
├── NotFound          a world, tract, thing, job or package that does not exist
├── Conflict          the thing is busy, or the request no longer fits its state
├── Choice            it can be done in several ways: who asked has to say which
├── Cancelled         a job was asked to stop
├── Busy              too much of this waits already: try again in some seconds
└── StorageError      what is kept cannot be read or written
    └── NoRoom        the disk is full, or may not be written
"""

from __future__ import annotations

import errno
from collections.abc import Mapping
from typing import TypeVar

T = TypeVar("T")


class FernError(Exception):
    """Anything Fern Field refuses, with a message for the person who asked."""


class Choice(FernError):
    """What was asked for can be done in several ways: `more` says what each comes to, for who asked."""

    def __init__(self, words: str, more: Mapping[str, object]) -> None:
        super().__init__(words)
        self.more = more


class InvalidInput(FernError, ValueError):
    """A value outside what is allowed; `field` names it where there is one."""

    def __init__(self, message: str, field: str | None = None) -> None:
        super().__init__(message)
        self.field = field


class GridError(InvalidInput):
    """A grid, window or array whose shape or spacing cannot be."""


class FormatError(InvalidInput):
    """A file that is not what it says, is damaged, or is too large."""


class NotFound(FernError, LookupError):
    """Something was named that does not exist."""


class Conflict(FernError):
    """The request does not fit the present state."""


class Cancelled(FernError):
    """A job was asked to stop, and did."""


class Busy(FernError):
    """Too much of this waits already; `seconds` until it is worth while to try again."""

    def __init__(self, message: str, seconds: int = 2) -> None:
        super().__init__(message)
        self.seconds = seconds


class StorageError(FernError):
    """What is kept cannot be read or written."""


class NoRoom(StorageError):
    """The disk is full, or may not be written."""


NO_ROOM = "the disk is full: nothing was changed, and what was kept before is safe; free some space, and try again"
NOT_WRITABLE = "the disk cannot be written: nothing was changed, and what was kept before is safe"


def of_disk(error: OSError) -> StorageError | None:
    """What an error of the system means to the person who asked, where it is the disk's."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return NoRoom(NO_ROOM)
    if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
        return NoRoom(NOT_WRITABLE)
    return (
        StorageError("the disk does not answer as it should; what was kept is safe")
        if error.errno == errno.EIO
        else None
    )


def named(known: Mapping[str, T], what: str, name: str | None) -> T:
    """What is called `name` among what is `known`. Raises NotFound, which says what there is."""
    if name is None or name not in known:
        raise NotFound(f"{what} must be one of {', '.join(known)}, not {name!r}")
    return known[name]
