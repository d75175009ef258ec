"""Jobs: how far they are, as an answer, as server-sent events, or as a card on a page; and cancelling them."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import Query, Request
from fastapi.responses import HTMLResponse, Response
from sse_starlette import EventSourceResponse

from fernfield.web.kernel.parts import TheStudio, page
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.jobs import JobTold

router = Router(prefix="/api/jobs", tags=["jobs"])
STOP_POLLING = 286
"""What htmx takes as the end of its asking."""

cards = Router(prefix="/jobs", include_in_schema=False)

Into = Annotated[str | None, Query(max_length=40)]


@router.get("/{job}")
def get_job(job: str, studio: TheStudio) -> JobTold:
    return studio.jobs.get(job).public()


@router.get("/{job}/events", response_class=EventSourceResponse)
async def job_events(job: str, studio: TheStudio, request: Request) -> EventSourceResponse:
    found = studio.jobs.get(job)

    async def events() -> AsyncIterator[dict[str, str]]:
        changed, loop = asyncio.Event(), asyncio.get_running_loop()
        changed.set()

        def hear() -> None:
            # The server may have stopped before the job.
            with contextlib.suppress(RuntimeError):
                loop.call_soon_threadsafe(changed.set)

        stop = found.listen(hear)
        try:
            while True:
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(changed.wait(), 1.0)
                changed.clear()
                ended = found.ended
                yield {"event": "job", "data": json.dumps(found.public())}
                if ended or await request.is_disconnected():
                    return
        finally:
            stop()

    return EventSourceResponse(events())


@router.delete("/{job}")
def cancel_job(job: str, studio: TheStudio) -> JobTold:
    return studio.jobs.cancel(job).public()


@cards.get("/{job}/card", response_class=HTMLResponse)
def job_card(request: Request, studio: TheStudio, job: str, into: Into = None) -> Response:
    """A job as it is; with `into`, a file that was read is placed into that world."""
    found = studio.jobs.get(job)
    status = STOP_POLLING if found.ended else 200
    return page(request, "job.html", status, job=found.public(), card=found.kind.card, into=into)


@cards.delete("/{job}/card", response_class=HTMLResponse)
def cancel_card(request: Request, studio: TheStudio, job: str) -> Response:
    found = studio.jobs.cancel(job)
    return page(request, "job.html", job=found.public(), card=found.kind.card, into=None)
