"""Handover: the package of a world, what the checks find, and the stage's panel."""

from __future__ import annotations

import mimetypes
import zipfile
from collections.abc import Iterator
from dataclasses import asdict
from typing import Annotated, Any

from fastapi import Path, Query, Request
from fastapi.responses import FileResponse, Response, StreamingResponse
from typing_extensions import TypedDict

from fernfield.core.errors import NotFound
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import JobAnswer, TheStudio, TheWorld, job_answer
from fernfield.web.kernel.routing import Router
from fernfield.work.delivery.making import FORMATS, SinceTold, SummaryTold
from fernfield.work.delivery.making import PackageTold as KeptTold
from fernfield.work.handover.deliveries import SHIPPED, Delivery, deliveries_of
from fernfield.work.handover.findings import Weight
from fernfield.work.handover.package import inside
from fernfield.work.kernel.rows import Key

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


class DeliveryTold(Delivery):
    """A delivery: whether it comes with the application."""

    key: str
    shipped: bool


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


PackageKey = Annotated[str, Path(pattern=r"^[a-z0-9_-]{1,60}$")]


@router.get("/deliveries")
def deliveries(world: TheWorld) -> list[DeliveryTold]:
    """What can be handed over: what comes with the application first, then the world's own."""
    with world.lock:
        own = deliveries_of(world)
    return [DeliveryTold(key=key, shipped=key in SHIPPED, **one.model_dump(mode="json")) for key, one in own.items()]


@router.get("/deliveries/{key}/summary")
def delivery_summary(key: Annotated[Key, Path()], world: TheWorld, studio: TheStudio) -> SummaryTold:
    """What a delivery would hold as the world is now, and what is lost by each format."""
    return studio.summary(world.id, key)


@router.post("/deliveries/{key}/make", status_code=202)
def make_delivery(request: Request, key: Annotated[Key, Path()], world: TheWorld, studio: TheStudio) -> JobAnswer:
    """Make a delivery as the world is now; the job's result names its package."""
    return job_answer(request, studio.start_delivery(world.id, key))


@router.get("/packages")
def packages(world: TheWorld, studio: TheStudio) -> list[KeptTold]:
    """The packages of deliveries that are kept, the newest first."""
    return studio.packages(world.id)


@router.get("/packages/{package}.zip", response_class=FileResponse)
def package_zip(package: PackageKey, world: TheWorld, studio: TheStudio) -> FileResponse:
    """A package; parts of it by ranges (RFC 9110, 14)."""
    name = f"fernfield-{world.id}-{package}.zip"
    return FileResponse(studio.package_file(world.id, package), media_type="application/zip", filename=name)


@router.get("/packages/{package}/files/{path:path}", response_class=Response)
def package_member(
    package: PackageKey, path: Annotated[str, Path(max_length=200)], world: TheWorld, studio: TheStudio
) -> Response:  # fmt: skip
    """One file of a package."""
    archive = zipfile.ZipFile(studio.package_file(world.id, package))
    if path not in archive.namelist():
        archive.close()
        raise NotFound(f"there is no {path} in this package: its manifest.json lists what there is")

    def parts() -> Iterator[bytes]:
        with archive, archive.open(path) as file:
            while part := file.read(1 << 18):
                yield part

    kind = mimetypes.guess_type(path)[0] or "application/octet-stream"
    return StreamingResponse(parts(), media_type=kind, headers={"content-disposition": "attachment"})


@router.get("/packages/{package}/since")
def package_since(package: PackageKey, world: TheWorld, studio: TheStudio) -> SinceTold:
    """What has changed since a package was made: by layer and tile, by row, and the words of the revisions."""
    return studio.since(world.id, package)


def _context(asked: Asked) -> dict[str, Any]:
    package = asked.studio.store.package(asked.world.id)
    return {
        "package": package,
        "stale": package is not None and package[0] < asked.world.revision,
        "inside": inside(asked.world),
        "formats": {key: one.words for key, one in FORMATS.items()},
    }


PANEL = Panel("handover", _context, script=True)
