"""Giving memory back to the system."""

from __future__ import annotations

import ctypes
import threading

_lock = threading.Lock()


ARENA_MAX, ARENAS = -8, 2
"""What `mallopt` is told (from memory: M_ARENA_MAX of glibc)."""


def keep_together() -> None:
    """Few arenas for all threads: each of many keeps what its thread had at most otherwise. Before threads begin."""
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:
        mallopt(ARENA_MAX, ARENAS)


def give_back() -> None:
    """Memory that was let go of goes back to the system: the C library keeps what its threads had otherwise."""
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None and _lock.acquire(blocking=False):
        try:
            trim(0)
        finally:
            _lock.release()
