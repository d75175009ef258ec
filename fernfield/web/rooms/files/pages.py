"""What a file holds, and how it is placed."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from fastapi.responses import HTMLResponse, Response

from fernfield.web.kernel.parts import TheStudio, page
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import card_of
from fernfield.web.rooms.files.routes import AsTract, AsWorld
from fernfield.work.ground.commands import PressFile
from fernfield.work.plots.rows import PLOTS
from fernfield.work.worlds.intake import Placing, Samples

router = Router(include_in_schema=False)


def _bars(samples: Samples) -> str:
    """The histogram as the path of an SVG of 256 by 60."""
    most = max(samples.counts) or 1
    step = 256 / len(samples.counts)
    tops = [60 - 58 * count / most for count in samples.counts]
    steps = "".join(f"L{i * step:.1f} {y:.1f}H{(i + 1) * step:.1f}" for i, y in enumerate(tops))
    return f"M0 60{steps}V60Z"


@router.get("/files/{file}/place", response_class=HTMLResponse)
def place_file(
    request: Request, studio: TheStudio, file: str, world: Annotated[str | None, Query(max_length=40)] = None
) -> Response:
    """What a file holds, and the form that says how it is placed."""
    found = studio.waiting.get(file)
    samples = found.read()
    into = None if world is None else studio.world(world)
    places = [] if into is None else into.places()
    plots = [] if into is None else [(key, row.name) for place, _ in places for key, row in into.each_in(PLOTS, place)]
    return page(
        request, "files/placing.html", file=found, samples=samples.public(), levels=samples.source.levels,
        whole=samples.source.whole, bars=_bars(samples), into=None if into is None else card_of(into, studio),
        plots_named=plots, tracts_named=[(key, place.name) for key, place in places], Placing=Placing,
        AsWorld=AsWorld, AsTract=AsTract, PressFile=PressFile,
    )  # fmt: skip
