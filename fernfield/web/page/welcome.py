"""An empty table: the demo world is made as a job, by the same commands as a user's."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from fastapi import Request

from fernfield.core.errors import NotFound
from fernfield.web.kernel.parts import JobAnswer, TheStudio, job_answer
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.studio import Studio

Step = Callable[[float, str], None]
Builder = Callable[[Studio, Step], str]
"""Makes the demo world in a studio, where it is not there, and says how far it is; gives its id."""

router = Router(prefix="/api", tags=["worlds"])


_ONE_AT_A_TIME = threading.Lock()


def _build(job: Job, studio: Studio, build: Builder) -> dict[str, Any]:
    return {"world": build(studio, lambda share, words: job.step(share, words[:1].upper() + words[1:]))}


DEMO = JobKind("demo", "Preparing the demo world", _build, "worlds/job_world.html")


@router.post("/demo", status_code=202)
def make_demo(request: Request, studio: TheStudio) -> JobAnswer:
    """Make the demo world, or find the one that is there; the job's result is {world}."""
    build: Builder | None = request.app.state.demo
    if build is None:
        raise NotFound("this server was started without a demo world to make")
    with _ONE_AT_A_TIME:
        # Whoever asks while it is being made gets the same job.
        under_way: Job | None = getattr(request.app.state, "demo_job", None)
        if under_way is None or under_way.ended:
            under_way = request.app.state.demo_job = studio.jobs.start(DEMO, None, studio, build)
    return job_answer(request, under_way)
