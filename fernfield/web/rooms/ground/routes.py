"""Ground: areas that are reset, carried or weathered, lines of the section, symmetry, and what overlays mean."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel

from fernfield.core.brush.tips import TIPS
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.landforms import LANDFORMS
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import TheStudio, TheTract, job_answer, outcome_json
from fernfield.work.ground.commands import MoveLand, Reset, Weather
from fernfield.work.ground.moving import move_land, outline_there
from fernfield.work.ground.rows import LIMITS, Landscape, Level, Limits, Recipe, Sheet, Weathering
from fernfield.work.ground.symmetric import check_symmetry
from fernfield.work.plots.keep import KeepTo
from fernfield.work.plots.rows import SYMMETRY, Symmetry
from fernfield.work.strokes import StrokeStart

router = APIRouter(prefix="/api/tracts/{tract}", tags=["ground"])


@router.post("/weather", status_code=202)
def weather(request: Request, command: Weather, tract: TheTract, studio: TheStudio) -> Response:
    return job_answer(request, studio.start_weather(tract[1].row.id, command))


@router.post("/reset")
def reset(command: Reset, tract: TheTract, studio: TheStudio) -> dict[str, Any]:
    return outcome_json(studio.reset(tract[1].row.id, command))


@router.post("/move/outline")
def move_outline(command: MoveLand, tract: TheTract) -> dict[str, Any]:
    """Where the land of an area would come to lie: the corners of it there, in the metres of the tract it goes to."""
    return {"corners": [list(place) for place in outline_there(*tract, command)]}


@router.post("/move")
def move(command: MoveLand, tract: TheTract) -> dict[str, Any]:
    return outcome_json(move_land(*tract, command))


@router.get("/symmetry")
def symmetry(tract: TheTract) -> dict[str, Any]:
    """How far the land is from the world's symmetry: the largest difference and where, and the mean of all."""
    return check_symmetry(*tract)


# The panel


def _context(asked: Asked) -> dict[str, Any]:
    world, tract = asked.world, asked.tract
    own = [(picture.key, picture.name) for picture in asked.studio.store.pictures(world.id)]
    symmetry = world.only(SYMMETRY)
    if symmetry.kind == "off":
        # Where a first line or point would lie: the middle.
        symmetry = symmetry.model_copy(update={"x": tract.grid.width / 2, "y": tract.grid.depth / 2})
    return {
        "tools": GROUND_TOOLS.values(), "pictures": [(key, name) for key, (name, _) in TIPS.items()] + own,
        "landforms": LANDFORMS.values(), "symmetry": symmetry, "limits": world.only(LIMITS), "works": AREA_WORKS,
        "Sheet": Sheet, "Level": Level, "Symmetry": Symmetry, "Limits": Limits, "Recipe": Recipe,
        "Weathering": Weathering, "Landscape": Landscape, "KeepTo": KeepTo, "StrokeStart": StrokeStart,
        "tracts": [(key, place.name) for key, place in world.places() if key != tract.row.id],
    }  # fmt: skip


@dataclass(frozen=True)
class AreaWork:
    """What the Ground stage can do with the area in the hand: its name, its call, and the model of its form."""

    name: str
    words: str
    button: str
    path: str
    model: type[BaseModel]


AREA_WORKS = (
    AreaWork("weather", "Weather", "Let it weather", "weather", Weather),
    AreaWork("reset", "Reset", "Reset it", "reset", Reset),
    AreaWork("move", "Move land", "Move it", "move", MoveLand),
)
"""The next is a line here."""

PANEL = Panel("ground", _context, script=True)
