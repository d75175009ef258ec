"""The logbook as a script: told, and done once more."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Annotated

from fastapi import Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from fernfield.core.errors import InvalidInput, named
from fernfield.web.kernel.parts import TheStudio, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.work.replaying import Replayed, lines_of, replay, script_of

router = Router(prefix="/api/worlds/{world}", tags=["handover"])
Number = Annotated[int | None, Query(ge=1, le=1_000_000_000)]
Metres = Annotated[float, Query(ge=-1e6, le=1e6)]
MOST_BYTES = 64 << 20


@router.get("/logbook.jsonl", response_class=StreamingResponse)
def script(
    world: TheWorld, studio: TheStudio, first: Annotated[Number, Query(alias="from")] = None,
    last: Annotated[Number, Query(alias="to")] = None, undone: bool = False,
) -> StreamingResponse:  # fmt: skip
    """The commands in force, one a line: {number, words, tract, command}. With `undone` all of them, undoing too."""
    upto = world.revision if last is None else min(last, world.revision)

    def lines() -> Iterator[bytes]:
        for one in script_of(studio.store, world, first or 1, upto, all_of_it=undone):
            yield json.dumps(one, ensure_ascii=False).encode() + b"\n"

    return StreamingResponse(lines(), media_type="application/x-ndjson")


BODY = {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}


@router.post("/replay", openapi_extra={"requestBody": {"required": True, "content": BODY}})
async def replay_script(
    world: TheWorld, request: Request, tract: Annotated[str | None, Query(max_length=40)] = None,
    east_m: Metres = 0.0, north_m: Metres = 0.0,
) -> Replayed:  # fmt: skip
    """Do a script once more, onto the first tract unless another is said, moved by so much. Each command is a revision;
    what cannot be done here is told with its reason."""
    body = b""
    async for part in request.stream():
        body += part
        if len(body) > MOST_BYTES:
            raise InvalidInput(f"a script has {MOST_BYTES >> 20} MiB at most", "body")
    if tract is not None:
        named(world.tracts, "tract", tract)
    return await run_in_threadpool(lambda: replay(world, lines_of(body.splitlines()), tract, east_m, north_m))
