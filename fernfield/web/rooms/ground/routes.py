"""Ground: areas that are reset, carried or weathered, lines of the section, symmetry, and what overlays mean."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fastapi import Request
from pydantic import BaseModel
from typing_extensions import TypedDict

from fernfield.core.brush.tips import TIPS
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.landforms import LANDFORMS
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import ByLand, JobAnswer, TheStudio, TheTract, TheWorld, job_answer, outcome_json
from fernfield.web.kernel.routing import Router
from fernfield.work.ground.commands import MoveLand, Reset, Weather
from fernfield.work.ground.limiting import Reached, beyond, bring_within
from fernfield.work.ground.moving import move_in_world, move_land, outline_there
from fernfield.work.ground.rows import LIMITS, Landscape, Level, Limits, Recipe, Sheet, Weathering
from fernfield.work.ground.symmetric import AsymmetryTold, check_symmetry
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.plots.areas import said_in_world
from fernfield.work.plots.keep import KeepTo
from fernfield.work.plots.rows import SYMMETRY, Symmetry
from fernfield.work.strokes import StrokeStart

works = Router()
"""What is done to an area, said in a tract's metres or in the world's."""


@works.post("/weather", status_code=202)
def weather(request: Request, command: Weather, tract: TheTract, by_land: ByLand, studio: TheStudio) -> JobAnswer:
    at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
    return job_answer(request, studio.start_weather(at.row.id, own))


@works.post("/reset")
def reset(command: Reset, tract: TheTract, by_land: ByLand, studio: TheStudio) -> Edited:
    at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
    return outcome_json(studio.reset(at.row.id, own))


class Corners(TypedDict):
    corners: list[list[float]]


@works.post("/move/outline")
def move_outline(command: MoveLand, tract: TheTract, by_land: ByLand) -> Corners:
    """Where the land of an area would come to lie: the corners of it there, in the metres of the tract it goes to, or
    in the world's."""
    world = tract[0]
    at, own = move_in_world(*tract, command) if by_land else (tract[1], command)
    place = world.place_of(own.tract or at.row.id)
    east, north = (place.x, place.y) if by_land else (0.0, 0.0)
    return {"corners": [[x + east, y + north] for x, y in outline_there(world, at, own)]}


@works.post("/move")
def move(command: MoveLand, tract: TheTract, by_land: ByLand) -> Edited:
    at, own = move_in_world(*tract, command) if by_land else (tract[1], command)
    return outcome_json(move_land(tract[0], at, own))


@works.get("/symmetry")
def symmetry(tract: TheTract, by_land: ByLand) -> AsymmetryTold:
    """How far the land is from the world's symmetry: the largest difference and where, and the mean of all."""
    found, place = check_symmetry(*tract), tract[0].place_of(tract[1].row.id)
    return {**found, "x": found["x"] + place.x, "y": found["y"] + place.y} if by_land else found


router = Router(tags=["ground"])
router.take(works, "/api/tracts/{tract}")
router.take(works, "/api/lands/{tract}")


@router.get("/api/worlds/{world}/limits/past")
def past_limits(world: TheWorld) -> Reached:
    """The lowest and highest ground of a world, and whether some of it lies past the limits."""
    return beyond(world)


@router.post("/api/worlds/{world}/limits/bring-within")
def bring(world: TheWorld) -> Edited:
    """Bring all ground that lies past the limits to them."""
    return outcome_json(bring_within(world))


# The panel


def _context(asked: Asked) -> dict[str, Any]:
    world, tract = asked.world, asked.tract
    own = [(picture.key, picture.name) for picture in asked.studio.store.pictures(world.id)]
    symmetry = world.only(SYMMETRY)
    if symmetry.kind == "off":
        # Where a first line or point would lie: the middle of the land.
        grid = world.land(tract.row.id).grid
        middle = {"x": (grid.west + grid.east) / 2, "y": (grid.south + grid.north) / 2}
        symmetry = symmetry.model_copy(update=middle)
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
