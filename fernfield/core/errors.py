"""The errors of Fern Field. Each message says the argument, what is allowed, and what came.

FernError
├── InvalidInput      a value outside what is allowed (also a ValueError)
│   ├── GridError     a grid, window or array of the wrong shape
│   └── FormatError   a file that is not what it says, or is damaged
├── NotFound          a world, tract, thing, job or package that does not exist
├── Conflict          the thing is busy, or the request no longer fits its state
└── Cancelled         a job was asked to stop
"""

from __future__ import annotations


class FernError(Exception):
    """Anything Fern Field refuses, with a message for the person who asked."""


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
