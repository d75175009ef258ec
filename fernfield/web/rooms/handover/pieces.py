"""A piece of the land by itself, as a file that others read."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from fastapi.responses import StreamingResponse
from pydantic import BeforeValidator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Window
from fernfield.web.kernel.parts import TheLand
from fernfield.web.kernel.routing import Router
from fernfield.work.delivery.grids import HEIGHTS_TIF32
from fernfield.work.delivery.land import LAND_GLB
from fernfield.work.delivery.pieces import Format, PieceOfLand, Span
from fernfield.work.ground.packing import range_of
from fernfield.work.handover.deliveries import Delivery, Step
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld

router = Router(prefix="/api/lands/{tract}", tags=["handover"])
Metres = Annotated[float | None, Query(ge=-1e7, le=1e7)]
TakesEach = Annotated[Step, BeforeValidator(int)]
"""Words of an address are no numbers yet."""
MOST_POSTS = 2_049**2
"""Of one answer."""


def _piece(
    seen: tuple[OpenWorld, Land], x0: float | None, y0: float | None, x1: float | None, y1: float | None, step: Step
) -> PieceOfLand:
    """The posts of a box of a tract, all of it where no side is said. [m]"""
    world, land = seen
    grid = land.grid
    west, south = grid.west if x0 is None else x0, grid.south if y0 is None else y0
    east, north = grid.east if x1 is None else x1, grid.north if y1 is None else y1
    window = Window(
        round(grid.row_of(north)), round(grid.col_of(west)), round(grid.row_of(south)) + 1, round(grid.col_of(east)) + 1
    ).meet(grid.window)
    if window.rows < 2 or window.cols < 2:
        raise InvalidInput(
            f"the box must hold two posts each way, smaller number first, not {x0}, {y0} to {x1}, {y1}", "x0"
        )
    # Pictures of fewer posts begin on every step-th one of the tract.
    window = Window(window.row0 - window.row0 % step, window.col0 - window.col0 % step, window.row1, window.col1)
    delivery = Delivery(name="Piece", formats=("land_glb",), step=step)
    span = Span(*range_of(land))
    piece = PieceOfLand(world, world.tract(land.id), delivery, land.id, 0, 0, window, span)
    if piece.shape[0] * piece.shape[1] > MOST_POSTS:
        raise Conflict(f"one answer has {MOST_POSTS:,} posts at most: ask for a smaller box, or a larger step")
    return piece


def _answer(piece: PieceOfLand, one: Format, kind: str) -> StreamingResponse:
    name = f'attachment; filename="{piece.tract.row.id}.{one.ending}"'
    return StreamingResponse(one.makes(piece), media_type=kind, headers={"content-disposition": name})


@router.get("/land.glb", response_class=StreamingResponse)
def land_glb(
    land: TheLand, x0: Metres = None, y0: Metres = None, x1: Metres = None, y1: Metres = None, step: TakesEach = 1
) -> StreamingResponse:  # fmt: skip
    """The land in a box as glTF, with what stands and grows there: x east, y up, z south, in metres."""
    return _answer(_piece(land, x0, y0, x1, y1, step), LAND_GLB, "model/gltf-binary")


@router.get("/heights.tif", response_class=StreamingResponse)
def heights_tif(
    land: TheLand, x0: Metres = None, y0: Metres = None, x1: Metres = None, y1: Metres = None, step: TakesEach = 1
) -> StreamingResponse:  # fmt: skip
    """The heights in a box as a 32-bit GeoTIFF, tiled, with overviews."""
    return _answer(_piece(land, x0, y0, x1, y1, step), HEIGHTS_TIF32, "image/tiff")
