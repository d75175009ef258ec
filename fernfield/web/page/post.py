"""What worlds tell open pages: carried from the threads that work to the loop that serves, many things in one go.

To wake the loop costs a call of the system, which lets go of the interpreter: for every page and every dab that is more
than the dab itself.
"""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Callable
from typing import Any


class Post:
    """Calls that are to be made on a loop, in the order in which they were handed in."""

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop, self._lock = loop, threading.Lock()
        self._waiting: list[tuple[Callable[..., None], tuple[Any, ...]]] = []

    def put(self, call: Callable[..., None], *args: Any) -> None:
        """From any thread: `call` is made soon."""
        with self._lock:
            self._waiting.append((call, args))
            first = len(self._waiting) == 1
        if first:
            # The server may have stopped before a job.
            with contextlib.suppress(RuntimeError):
                self._loop.call_soon_threadsafe(self._deliver)

    def _deliver(self) -> None:
        with self._lock:
            waiting, self._waiting = self._waiting, []
        for call, args in waiting:
            call(*args)
