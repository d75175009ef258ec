"""Tiles of the plan that were drawn and are still true: asked for again, they are neither drawn nor sent again."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Callable
from threading import Lock

from fastapi import Request, Response

from fernfield.work.kernel.world import OpenWorld

MOST_BYTES = 64 << 20


class DrawnTiles:
    """Pictures by what was asked and the state they show, the least lately asked for dropped first."""

    def __init__(self) -> None:
        self._lock, self._kept, self._bytes = Lock(), OrderedDict[str, bytes](), 0

    def answer(
        self, request: Request, world: OpenWorld, draw: Callable[[], bytes], media: str = "image/webp"
    ) -> Response:
        """The picture that `draw` makes of the world as it is now, or word that the asker has it already."""
        state = world.state_name()
        if state is None:
            return Response(draw(), media_type=media)
        asked = f"{state} {request.url.path}?{request.url.query}"
        mark = f'"{hashlib.sha256(asked.encode()).hexdigest()[:24]}"'
        headers = {"etag": mark, "cache-control": "private, no-cache"}
        if request.headers.get("if-none-match") == mark:
            return Response(status_code=304, headers=headers)
        with self._lock:
            found = self._kept.get(mark)
            if found is not None:
                self._kept.move_to_end(mark)
        if found is None:
            found = draw()
            if world.state_name() != state:
                # Somebody drew meanwhile: it may show a little of that.
                return Response(found, media_type=media)
            self._keep(mark, found)
        return Response(found, media_type=media, headers=headers)

    def _keep(self, mark: str, picture: bytes) -> None:
        with self._lock:
            self._bytes += len(picture) - len(self._kept.pop(mark, b""))
            self._kept[mark] = picture
            while self._bytes > MOST_BYTES:
                self._bytes -= len(self._kept.popitem(last=False)[1])
