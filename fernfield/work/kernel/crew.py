"""Who does the work: threads here, processes here, or the workers of a Dask cluster. What they do is the same.

Functions that run on a crew are pure: what they need is handed to them, what they make is handed back. So it does not
matter who does a part, how many there are, or whether one of them dies: its parts are done again by others.
"""

from __future__ import annotations

import contextlib
import importlib
import multiprocessing
import os
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import Any, TypeVar

from fernfield.core.errors import Conflict, InvalidInput

R = TypeVar("R")

THREADS = 2
"""Kernels release the interpreter's lock: so many threads keep two processors busy."""

WAITING = 2
"""Parts that are handed out for each worker: one to work on, one to go on with."""

LESS_URGENT = 10
"""Nice value of threads of long work."""

MOST_DEATHS = 5
"""So often workers may die in one piece of work before it is given up."""


def give_way() -> None:
    """Long work goes on when nobody waits for an answer: this thread is less urgent than those that answer."""
    with contextlib.suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), LESS_URGENT)


class Crew:
    """Workers, called together when there is something to do.

    call : makes the executor, and says how many parts it works on at once
    """

    def __init__(self, call: Callable[[], tuple[Executor, int]]) -> None:
        self._call, self._lock = call, threading.Lock()
        self._made: tuple[Executor, int] | None = None

    def _there(self) -> tuple[Executor, int]:
        with self._lock:
            if self._made is None:
                self._made = self._call()
            return self._made

    def _gone(self, executor: Executor) -> None:
        """Some of the workers died: others are called."""
        with self._lock:
            if self._made is not None and self._made[0] is executor:
                executor.shutdown(wait=False, cancel_futures=True)
                self._made = None

    def each(self, function: Callable[..., R], calls: Iterable[tuple[Any, ...]]) -> Iterator[R]:
        """What `function` makes of each call, in their order. Calls are made up as they are needed: only some for each
        worker stand in memory. Closing the iterator stops the rest. Raises Conflict when workers die again and again.
        """
        rest, deaths = iter(calls), 0
        waiting: deque[tuple[Any, ...]] = deque()
        parts: deque[Future[R]] = deque()
        """What was handed out of `waiting`, from its first on."""
        executor, size = self._there()
        try:
            while True:
                while len(waiting) < size * WAITING and (call := next(rest, None)) is not None:
                    waiting.append(call)
                if not waiting:
                    return
                try:
                    # A pool says that it broke when it is handed something as well as when it is asked.
                    while len(parts) < len(waiting):
                        parts.append(executor.submit(function, *waiting[len(parts)]))
                    found = parts[0].result()
                except BrokenProcessPool:
                    deaths += 1
                    if deaths > MOST_DEATHS:
                        raise Conflict("workers died again and again; nothing was changed") from None
                    parts.clear()
                    self._gone(executor)
                    executor, size = self._there()
                    continue
                parts.popleft()
                waiting.popleft()
                yield found
        finally:
            for part in parts:
                part.cancel()

    def close(self) -> None:
        with self._lock:
            if self._made is not None:
                self._made[0].shutdown(wait=True, cancel_futures=True)
                self._made = None


def threads(count: int = THREADS) -> Crew:
    return Crew(lambda: (ThreadPoolExecutor(count, thread_name_prefix="crew", initializer=give_way), count))


def processes(count: int) -> Crew:
    """Processes on this machine, begun afresh: none inherits what this one has open."""
    context = multiprocessing.get_context("spawn")
    return Crew(lambda: (ProcessPoolExecutor(count, mp_context=context), count))


class _Cluster(Executor):
    """A Dask cluster as an executor. The scheduler gives the parts of a worker that died to others."""

    def __init__(self, client: Any) -> None:
        self._client, self._parts = client, client.get_executor(pure=False)

    def submit(self, fn: Callable[..., R], /, *args: Any, **kwargs: Any) -> Future[R]:
        part: Future[R] = self._parts.submit(fn, *args, **kwargs)
        return part

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self._parts.shutdown(wait=wait and not cancel_futures)
        self._client.close()


def cluster(address: str) -> Crew:
    """The workers of a Dask cluster. Raises InvalidInput when `distributed` is not installed or nobody answers."""

    def call() -> tuple[Executor, int]:
        try:
            distributed: Any = importlib.import_module("distributed")
        except ImportError as error:
            raise InvalidInput('a cluster needs the package distributed: pip install "fernfield[cluster]"') from error
        try:
            client = distributed.Client(address, timeout=10, set_as_default=False)
        except (OSError, ValueError) as error:
            raise InvalidInput(f"no Dask scheduler answers at {address!r}: {error}") from error
        return _Cluster(client), max(1, sum(client.nthreads().values()))

    return Crew(call)


def crew_of(workers: int = 0, address: str = "") -> Crew:
    """The crew that is set: a cluster's, so many processes, or threads for none."""
    if address:
        return cluster(address)
    return processes(workers) if workers else threads()


HERE = threads()
"""Used where nothing else is set."""
