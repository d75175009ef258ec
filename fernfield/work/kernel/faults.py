"""What goes wrong: what it means to the person who asked, or a number under which the log has it."""

from __future__ import annotations

import logging
import secrets

from fernfield.core.errors import FernError, NoRoom, of_disk

log = logging.getLogger("fernfield")


def meaning(error: BaseException) -> FernError | None:
    """What an error means to the person who asked; None where it is a fault of ours."""
    if isinstance(error, FernError):
        return error
    if isinstance(error, MemoryError):
        return NoRoom("there was not enough memory; nothing was changed")
    return of_disk(error) if isinstance(error, OSError) else None


def new_number() -> str:
    """The number of a request, by which the log has it."""
    return secrets.token_hex(4)


def noted(error: BaseException, where: str, number: str | None = None) -> str:
    """Write a fault of ours into the log; returns what is told of it, with the number that finds it there."""
    number = number or new_number()
    log.error("fault %s: %s", number, where, exc_info=error)
    return f"something went wrong on our side (number {number}); what was acknowledged before is kept"
