"""Ground: areas that are reset, carried or weathered, lines of the section, symmetry, and what overlays mean."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import TypeAdapter

from fernfield.core.drawing.overlays import OVERLAYS
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.web.api.parts import TheStudio, TheTract, outcome_json
from fernfield.web.pictures import level_window
from fernfield.work.areas import move_land
from fernfield.work.commands import Coordinate, MoveLand, Reset, Weather
from fernfield.work.overlaid import labels, legend
from fernfield.work.sections import line_section
from fernfield.work.symmetric import check_symmetry

router = APIRouter(prefix="/api/tracts/{tract}", tags=["ground"])
tools = APIRouter(prefix="/api", tags=["ground"])

POINTS: TypeAdapter[list[tuple[Coordinate, Coordinate]]] = TypeAdapter(list[tuple[Coordinate, Coordinate]])
Level = Annotated[int, Query(ge=-2, le=7)]
Pixel = Annotated[int, Query(ge=-100_000, le=200_000)]


@tools.get("/tools")
def ground_tools() -> dict[str, Any]:
    """The ground tools with their settings, and the overlays."""
    return {
        "tools": [
            {
                "name": tool.name,
                "label": tool.label,
                "unit": tool.unit,
                "words": tool.words,
                "whole_path": tool.lay is not None,
                "settings": [
                    {**asdict(setting), "low": _finite(setting.low), "high": _finite(setting.high)}
                    for setting in tool.settings
                ],
            }
            for tool in GROUND_TOOLS.values()
        ],
        "overlays": [{"name": o.name, "label": o.label, "hint": o.hint} for o in OVERLAYS.values()],
    }


def _finite(value: float) -> float | None:
    return value if abs(value) < 1e300 else None


@router.post("/weather", status_code=202)
def weather(command: Weather, tract: TheTract, studio: TheStudio) -> dict[str, str]:
    return {"job": studio.start_weather(tract[1].row.id, command).id}


@router.post("/reset")
def reset(command: Reset, tract: TheTract, studio: TheStudio) -> dict[str, Any]:
    return outcome_json(studio.reset(tract[1].row.id, command))


@router.post("/move")
def move(command: MoveLand, tract: TheTract) -> dict[str, Any]:
    return outcome_json(move_land(*tract, command))


@router.get("/symmetry")
def symmetry(tract: TheTract) -> dict[str, Any]:
    """How far the land is from the world's symmetry: the largest difference and where, and the mean of all."""
    return check_symmetry(*tract)


@router.get("/line")
def line(
    tract: TheTract,
    points: Annotated[str, Query(max_length=20_000, description="[[x, y], …] as JSON")],
    a: Annotated[float | None, Query(ge=0, allow_inf_nan=False)] = None,
    b: Annotated[float | None, Query(ge=0, allow_inf_nan=False)] = None,
) -> dict[str, Any]:
    """The section along a line; with `a` and `b` (distances along it) also slope and length between them."""
    if (a is None) != (b is None):
        raise InvalidInput("a and b go together", "b" if b is None else "a")
    try:
        places = POINTS.validate_json(points)
    except ValueError as error:
        raise InvalidInput(f"points must be [[x, y], …] in metres, not {points[:60]!r}", "points") from error
    if not 2 <= len(places) <= 200:
        raise InvalidInput(f"a line has 2 to 200 points, not {len(places)}", "points")
    marks = (a, b) if a is not None and b is not None else None
    return line_section(*tract, places, marks)


@router.get("/contour-labels")
def contour_labels(
    tract: TheTract, level: Level, row0: Pixel, col0: Pixel, row1: Pixel, col1: Pixel,
    contour_m: Annotated[float, Query(gt=0, le=1000, allow_inf_nan=False)] = 2.0,
) -> list[dict[str, Any]]:  # fmt: skip
    """The figures of index contours, for the pixels of a level that are in view."""
    part = Window(row0, col0, row1, col1).meet(level_window(tract[1], level))
    if part.empty:
        return []
    if part.rows * part.cols > 4_000_000:
        raise InvalidInput(f"at most 4,000,000 pixels can be asked for at once, not {part.rows * part.cols}", "row1")
    return labels(*tract, level, part, contour_m)


@router.get("/legend")
def overlay_legend(tract: TheTract) -> dict[str, Any]:
    return legend(tract[1])
