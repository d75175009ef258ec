"""Jobs: how far they are, as an answer or as server-sent events, and cancelling them."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from typing import Any

from anyio import to_thread
from fastapi import APIRouter, Request
from sse_starlette import EventSourceResponse

from fernfield.web.api.parts import TheStudio

router = APIRouter(prefix="/api/jobs", tags=["jobs"])


@router.get("/{job}")
def get_job(job: str, studio: TheStudio) -> dict[str, Any]:
    return studio.jobs.get(job).public()


@router.get("/{job}/events", response_class=EventSourceResponse)
async def job_events(job: str, studio: TheStudio, request: Request) -> EventSourceResponse:
    found = studio.jobs.get(job)

    async def events() -> AsyncIterator[dict[str, str]]:
        version = -1
        while True:
            version = await to_thread.run_sync(found.wait, version, 1.0)
            ended = found.ended
            yield {"event": "job", "data": json.dumps(found.public())}
            if ended or await request.is_disconnected():
                return

    return EventSourceResponse(events())


@router.delete("/{job}")
def cancel_job(job: str, studio: TheStudio) -> dict[str, Any]:
    return studio.jobs.cancel(job).public()
