"""A world for programs that keep a copy in step: told of each revision, they fetch just what it changed."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import io
import json
from collections.abc import AsyncIterator
from typing import Annotated

import numpy as np
from fastapi import Header, Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from sse_starlette import EventSourceResponse
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.grid import Window
from fernfield.web.kernel.parts import TheStudio, TheTract, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.work.handover.following import ChangeTold, RowsTold, changes_since, layers_of, named_inside, rows_told
from fernfield.work.kernel.events import Event, Revised

router = Router(tags=["handover"])
MOST_POSTS = 2_049**2
"""Of one answer."""
Post = Annotated[int, Query(ge=0, le=1_000_000)]
LayerName = Annotated[str, Path(pattern=r"^[a-z_]+(:[A-Za-z0-9_-]+)?$", max_length=100)]


@router.get("/api/worlds/{world}/changes", response_class=EventSourceResponse)
async def changes(
    world: TheWorld, studio: TheStudio, request: Request, since: Annotated[int, Query(ge=0)],
    last_event_id: Annotated[int | None, Header(ge=0)] = None,
) -> EventSourceResponse:  # fmt: skip
    """Server-sent events: one for each revision after `since`, undo and redo included, and then as they are made. Its
    id is the revision: who comes again says it (Last-Event-ID) and goes on from there. With `all` the whole is to be
    fetched anew, since the revisions in between are not kept any more."""
    begin = since if last_event_id is None else last_event_id
    if begin > world.revision:
        raise InvalidInput(f"the world is at r{world.revision}: there is no r{begin} yet", "since")

    def told(upto: int) -> list[ChangeTold]:
        return list(changes_since(studio.store, world, upto))

    async def events() -> AsyncIterator[dict[str, str]]:
        upto, revised, loop = begin, asyncio.Event(), asyncio.get_running_loop()
        revised.set()

        def hear(event: Event) -> None:
            if isinstance(event, Revised):
                # The server may have stopped before the world.
                with contextlib.suppress(RuntimeError):
                    loop.call_soon_threadsafe(revised.set)

        stop = world.listen(hear)
        try:
            while not await request.is_disconnected():
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(revised.wait(), 1.0)
                revised.clear()
                if world.revision == upto:
                    continue
                for one in await run_in_threadpool(told, upto):
                    upto = one["revision"]
                    yield {"id": str(upto), "data": json.dumps(one)}
        finally:
            stop()

    return EventSourceResponse(events())


@router.get("/api/worlds/{world}/rows")
def rows(
    world: TheWorld,
    of: Annotated[list[str] | None, Query(max_length=1_000, description="collection/key; all when left out")] = None,
    schemas: bool = False,
) -> RowsTold:
    """Rows as they are kept, by collection and key."""
    if of is None:
        return rows_told(world, None, schemas)
    keys: dict[str, list[str]] = {}
    for one in of:
        name, _, key = one.partition("/")
        if name not in world.house.collections or not key:
            raise InvalidInput(f"a row is said as collection/key, for instance things/well, not {one!r}", "of")
        keys.setdefault(name, []).append(key)
    return rows_told(world, keys, schemas)


class LayersTold(TypedDict):
    """A tract as it lies in memory: its posts, and the layers in which something is written."""

    revision: int
    rows: int
    cols: int
    layers: list[str]


@router.get("/api/tracts/{tract}/layers")
def layers(seen: TheTract, studio: TheStudio) -> LayersTold:
    world, tract = seen
    with world.lock:
        grid = tract.grid
        return {
            "revision": world.revision, "rows": grid.rows, "cols": grid.cols, "layers": layers_of(studio.store, tract),
        }  # fmt: skip


@router.get("/api/tracts/{tract}/layers/{layer}.npy", response_class=Response)
def layer_window(
    layer: LayerName, seen: TheTract, row0: Post = 0, col0: Post = 0, row1: Post | None = None,
    col1: Post | None = None,
) -> Response:  # fmt: skip
    """A window of a layer as it is kept, as a NumPy array: heights in metres, masks of 0 to 65,535. X-SHA-256 is of the
    body."""
    world, tract = seen
    grid, name = tract.grid, named_inside(layer)
    if name.split(":")[0] not in {one.sort for one in world.house.layers}:
        raise NotFound(f"there is no layer {layer!r}: GET …/layers tells which there are")
    window = Window(row0, col0, grid.rows if row1 is None else row1, grid.cols if col1 is None else col1)
    if window.empty or window.meet(grid.window) != window or window.rows * window.cols > MOST_POSTS:
        raise InvalidInput(
            f"a window lies in rows 0 to {grid.rows} and columns 0 to {grid.cols}, smaller number first, and has "
            f"{MOST_POSTS:,} posts at most, not {window.as_list()}", "row0",
        )  # fmt: skip
    with world.lock:
        values, revision = tract.cache.read(name, window), world.revision
    out = io.BytesIO()
    np.save(out, values)
    body = out.getvalue()
    headers = {"X-Revision": str(revision), "X-SHA-256": hashlib.sha256(body).hexdigest()}
    return Response(body, media_type="application/octet-stream", headers=headers)
