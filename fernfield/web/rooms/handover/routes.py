"""Handover: the package of a world, what the checks find, and the stage's panel."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from fastapi import Request
from fastapi.responses import FileResponse
from typing_extensions import TypedDict

from fernfield.core.checks.finding import Finding
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import JobAnswer, TheStudio, TheWorld, job_answer
from fernfield.web.kernel.routing import Router
from fernfield.work.handover.package import inside

router = Router(prefix="/api/worlds/{world}", tags=["handover"])


@router.get("/findings")
def findings(world: TheWorld, studio: TheStudio) -> Annotated[list[dict[str, Any]], list[Finding]]:
    return [asdict(found) for found in studio.check(world.id)]


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
