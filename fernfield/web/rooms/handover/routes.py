"""Handover: the package of a world, what the checks find, and the stage's panel."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from fastapi import Query, Request
from fastapi.responses import FileResponse
from typing_extensions import TypedDict

from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import JobAnswer, TheStudio, TheWorld, job_answer
from fernfield.web.kernel.routing import Router
from fernfield.work.handover.findings import Weight
from fernfield.work.handover.package import inside

router = Router(prefix="/api/worlds/{world}", tags=["handover"])


class FoundTold(TypedDict):
    """A finding: its id, the stage that it is of, how bad it is, what it says and how it is mended, where in its tract
    [m], the calls that mend it, and why it was accepted, if it was."""

    id: str
    stage: str
    weight: Weight
    check: str
    words: str
    remedy: str
    grave: bool
    x: float | None
    y: float | None
    tract: str | None
    mend: dict[str, Any] | None
    mend_one: dict[str, Any] | None
    accepted: str | None


@router.get("/findings")
def findings(
    world: TheWorld, studio: TheStudio, stage: Annotated[str | None, Query(max_length=40)] = None,
    weight: Weight | None = None,
) -> Annotated[list[dict[str, Any]], list[FoundTold]]:  # fmt: skip
    """What the checks find: of a stage, of a weight, if that is asked for; what was accepted is told last."""
    return [
        {**asdict(one.finding), "id": one.id, "stage": one.stage, "weight": one.weight, "accepted": one.accepted}
        for one in studio.findings(world.id)
        if stage in (None, one.stage) and weight in (None, one.weight)
    ]


@router.post("/handover", status_code=202)
def handover(request: Request, world: TheWorld, studio: TheStudio) -> JobAnswer:
    return job_answer(request, studio.start_handover(world.id))


class PackageTold(TypedDict):
    """Of which revision the package is and when it was made, and whether the world has gone on since."""

    revision: int | None
    made_at: str | None
    world_revision: int
    stale: bool


@router.get("/handover")
def handover_state(world: TheWorld, studio: TheStudio) -> PackageTold:
    package = studio.store.package(world.id)
    return {
        "revision": package[0] if package else None,
        "made_at": package[1] if package else None,
        "world_revision": world.revision,
        "stale": package is None or package[0] < world.revision,
    }


@router.get("/handover.zip", response_class=FileResponse)
def package(world: TheWorld, studio: TheStudio) -> FileResponse:
    revision, _made_at, path = studio.package(world.id)
    return FileResponse(path, media_type="application/zip", filename=f"fernfield-{world.id}-r{revision}.zip")


def _context(asked: Asked) -> dict[str, Any]:
    package = asked.studio.store.package(asked.world.id)
    return {
        "package": package,
        "stale": package is not None and package[0] < asked.world.revision,
        "inside": inside(asked.world),
    }


PANEL = Panel("handover", _context, script=True)
