"""Runs of simulated testers: begun as a job, looked at place by place, and as a report that opens by itself."""

from __future__ import annotations

import base64
from typing import Annotated, Any

import cv2
import numpy as np
from fastapi import Path, Query, Request, Response

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.travel.bots import AIMS, Worst
from fernfield.web.kernel.parts import JobAnswer, TheStudio, TheWorld, job_answer
from fernfield.web.kernel.pictures import plan_rgb, png_of
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Key, TractId
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.show import Show
from fernfield.work.trial.running import RUNS, RoundTold, ToRun, What, heat_of, track_of, worst_told
from fernfield.work.worlds.rows import ABOUT

router = Router(prefix="/api/worlds/{world}/runs", tags=["trial"])
RunKey = Annotated[Key, Path()]
REPORT_WIDTH = 900
INKS: dict[What, tuple[int, int, int]] = {
    "walked": (162, 67, 31), "stood": (39, 99, 127), "met": (90, 31, 61), "stuck": (176, 0, 32),
    "fallen": (91, 74, 134),
}  # fmt: skip


@router.post("", status_code=202)
def run(
    request: Request, world: TheWorld, studio: TheStudio, wanted: ToRun,
    tract: Annotated[TractId | None, Query()] = None,
) -> JobAnswer:  # fmt: skip
    """Let bots play rounds on the land of a tract, of the first one unless told; the job's result names the run."""
    return job_answer(request, studio.start_run(world.id, wanted, tract))


@router.get("/{key}/heat", response_class=Response)
def heat(key: RunKey, world: TheWorld, studio: TheStudio, what: What = "walked") -> Response:
    """How much of a run was where: little-endian float32, seconds for "walked" and "stood", else how often. The headers
    say the shape, and where the first square begins in the north-west and how wide each is. [m]"""
    found, posts = heat_of(world, key, what)
    west, north, cell = _squares(world, key, posts)
    headers = {"X-Shape": ",".join(map(str, found.shape)), "X-Squares": f"{west:g},{north:g},{cell:g}"}
    return Response(found.astype("<f4").tobytes(), media_type="application/octet-stream", headers=headers)


def _land(world: OpenWorld, key: str) -> Land:
    with world.lock:
        return world.country(world.of_tract(world.row(RUNS, key).tract))


def _squares(world: OpenWorld, key: str, posts: int) -> tuple[float, float, float]:
    land = _land(world, key)
    grid, first = land.grid, land.bounds
    half = grid.spacing / 2
    return grid.x_of(first.col0) - half, grid.y_of(first.row0) + half, posts * grid.spacing


@router.get("/{key}/worst")
def worst(key: RunKey, world: TheWorld, studio: TheStudio) -> list[Worst]:
    """The ten places where bots stuck or fell most often, each with one time that it happened."""
    return worst_told(world, key)


@router.get("/{key}/tracks")
def tracks(
    key: RunKey, world: TheWorld, studio: TheStudio, bot: Annotated[int, Query(ge=0, lt=400)] = 0,
    number: Annotated[int, Query(ge=0, lt=100, alias="round")] = 0,
) -> RoundTold:  # fmt: skip
    """Where a bot was in a round, every second, in the metres of the world; both are counted from 0."""
    return track_of(world, key, number, bot)


@router.get("/{key}/report.html", response_class=Response)
def report(request: Request, key: RunKey, world: TheWorld, studio: TheStudio) -> Response:
    """A run as one page that opens without the application, to be kept, printed or sent."""
    with world.lock:
        row = world.row(RUNS, key)
    land, pictures = _land(world, key), []
    grid = land.grid
    plan = plan_rgb(world, land, REPORT_WIDTH, (grid.west, grid.south, grid.east, grid.north), Show())
    for what in INKS:
        found, _ = heat_of(world, key, what)
        if found.any():
            png = base64.b64encode(png_of(_over(plan, found, INKS[what]))).decode()
            pictures.append({"what": what, "png": png, "most": f"{found.max():.0f}"})
    context: dict[str, Any] = {
        "run": row, "key": key, "world": world.only(ABOUT).name, "pictures": pictures, "aims": AIMS,
        "worst": worst_told(world, key),
    }  # fmt: skip
    page = request.app.state.templates.get_template("trial/run_report.html").render(context)
    headers = {"Content-Disposition": f'attachment; filename="run-{key}.html"'}
    return Response(page, media_type="text/html", headers=headers)


def _over(plan: ByteArray, heat: FloatArray, ink: tuple[int, int, int]) -> ByteArray:
    """Heat over a greyed plan: by its logarithm, since few squares have most of it."""
    tall, wide = plan.shape[:2]
    part = np.log1p(heat) / np.log1p(heat.max())
    part = cv2.resize(part.astype(np.float32), (wide, tall), interpolation=cv2.INTER_NEAREST)[..., None]
    calm = plan.mean(axis=2, keepdims=True) * 0.5 + 110
    return np.asarray(np.clip(calm * (1 - part) + np.array(ink, np.float32) * part, 0, 255), np.uint8)
