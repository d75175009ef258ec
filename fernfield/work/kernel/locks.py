"""A lock that is had in the order in which it was asked for, so that long work can let others in between."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any


class FairLock:
    """As `threading.RLock`: whoever has it may take it again. Whoever waits longest has it next.

    An RLock goes to whoever asks first once it is free: a thread that lets it go and takes it again is quicker than
    those who sleep, and they would wait for ever.
    """

    def __init__(self) -> None:
        self._mutex = threading.Lock()
        self._waiting: deque[tuple[int, threading.Lock]] = deque()
        self._owner: int | None = None
        self._depth = 0

    def acquire(self, blocking: bool = True, timeout: float = -1) -> bool:
        me = threading.get_ident()
        with self._mutex:
            if self._owner == me:
                self._depth += 1
                return True
            if self._owner is None:
                self._owner, self._depth = me, 1
                return True
            if not blocking:
                return False
            turn = threading.Lock()
            turn.acquire()
            self._waiting.append((me, turn))
        if turn.acquire(timeout=timeout):
            return True
        with self._mutex:
            if (me, turn) in self._waiting:
                self._waiting.remove((me, turn))
                return False
        # It was handed over at the last moment.
        return True

    def release(self) -> None:
        with self._mutex:
            if self._owner != threading.get_ident():
                raise RuntimeError("this thread does not have the lock")
            self._depth -= 1
            if self._depth == 0:
                self._hand_over()

    def _hand_over(self) -> None:
        if self._waiting:
            self._owner, turn = self._waiting.popleft()
            self._depth = 1
            turn.release()
        else:
            self._owner = None

    def __enter__(self) -> bool:
        return self.acquire()

    def __exit__(self, *_error: object) -> None:
        self.release()

    def let_in(self) -> None:
        """Let those have it who wait, and go on after them; however often this thread has taken it."""
        if self._waiting:
            with self.away():
                pass

    @contextmanager
    def away(self) -> Iterator[None]:
        """Go without it for a while, however often this thread has taken it."""
        depth = self._release_save()
        try:
            yield
        finally:
            self._acquire_restore(depth)

    # What a threading.Condition asks of a lock that can be taken more than once.

    def _release_save(self) -> int:
        with self._mutex:
            depth, self._depth = self._depth, 0
            self._hand_over()
            return depth

    def _acquire_restore(self, depth: Any) -> None:
        self.acquire()
        self._depth = depth

    def _is_owned(self) -> bool:
        return self._owner == threading.get_ident()
