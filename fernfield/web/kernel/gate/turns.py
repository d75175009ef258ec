"""Edits wait in lines of their own, one for each world, not in the pool of threads that serves answers."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from starlette.types import ASGIApp, Receive, Scope, Send

from fernfield.web.kernel.gate.guard import SAFE_METHODS, problem_bytes

AT_ONCE = 4
"""Edits of one world that have a thread; most of the time all but one of them wait for its lock."""

MOST_WAITING = 32
"""Edits of one world that wait for a thread; the next one is told to come again."""

ALL_AT_ONCE = 24
RETRY_S = 2


@dataclass
class _Line:
    busy: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(AT_ONCE))
    inside: int = 0


class Turns:
    """Lets so many edits through at a time, in the order in which they came."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._lines: dict[str, _Line] = {}
        self._all = asyncio.Semaphore(ALL_AT_ONCE)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        parts = scope["path"].split("/") if scope["type"] == "http" else []
        edits = len(parts) > 3 and parts[1] == "api" and scope["method"] not in SAFE_METHODS and parts[2] != "jobs"
        if not edits:
            await self._app(scope, receive, send)
            return
        with self._line(parts[3]) as line:
            if line.inside > AT_ONCE + MOST_WAITING:
                await self._too_many(send)
                return
            async with line.busy, self._all:
                await self._app(scope, receive, send)

    @contextmanager
    def _line(self, key: str) -> Iterator[_Line]:
        line = self._lines.setdefault(key, _Line())
        line.inside += 1
        try:
            yield line
        finally:
            line.inside -= 1
            if line.inside == 0:
                del self._lines[key]

    @staticmethod
    async def _too_many(send: Send) -> None:
        detail = f"{MOST_WAITING} edits of this world wait already: try again in {RETRY_S} s"
        body = problem_bytes(429, "Too Many Requests", detail)
        headers = [
            (b"content-type", b"application/problem+json"),
            (b"content-length", str(len(body)).encode()),
            (b"retry-after", str(RETRY_S).encode()),
        ]
        await send({"type": "http.response.start", "status": 429, "headers": headers})
        await send({"type": "http.response.body", "body": body})
