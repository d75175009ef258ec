"""Decals as a world keeps them: marks that lie on its ground, and in every picture of it."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np
from pydantic import Field, StringConstraints, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.sites.decals import DECALS, LETTERS, decal, draped, laid_on, lettering
from fernfield.core.sites.solids import entry_shape
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Collection, Colour, East, Facing, Key, Name, North, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted
from fernfield.work.sites.standing import Stood, stood_in

MOST_DECALS = 5_000
SMALLEST_PX = 0.7
"""A mark that is seen smaller than this is not drawn."""
PICTURES = {**{name: label for name, (label, _) in DECALS.items()}, LETTERS: "Lettering"}


class Decal(Parted):
    """Collection "decals": a mark that lies on the ground. x east, y north [m], turned clockwise [°].

    picture : a shipped one, "letters" for its `text`, or the key of a picture that was brought
    tops : whether it lies on pieces there too that can be stood on; under them the ground has it all the same
    order : later ones lie over earlier ones
    """

    name: Annotated[Name, Say("Name")]
    picture: Annotated[Key, UNASKED] = "stain"
    text: Annotated[
        str,
        StringConstraints(strip_whitespace=True, max_length=24, pattern=r"^[ -~]*$"),
        Say("Text", under="Lettering"),
    ] = ""
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    width_m: Annotated[float, Field(gt=0, le=500), Say("Width", "m")] = 4.0
    depth_m: Annotated[float, Field(gt=0, le=500), Say("Depth", "m")] = 4.0
    turn_deg: Annotated[Facing, Say("Turn", "°")] = 0.0
    colour: Annotated[Colour, Say("Colour")] = "#4a3a2c"
    strength: Annotated[float, Field(gt=0, le=1), Say("Strength", "%", percent=True, under="More")] = 0.7
    tops: Annotated[bool, Say("Also on what is stood on", under="More")] = True
    order: Annotated[int, Field(ge=-1_000, le=1_000), Say("Order", under="More")] = 0
    tract: Annotated[TractId | None, UNASKED] = None

    @model_validator(mode="after")
    def _fits(self) -> Decal:
        if self.picture == LETTERS and not self.text:
            raise InvalidInput("lettering needs its text", "text")
        return self


def _seen(row: Decal) -> tuple[str, float, float, float, float]:
    far = math.hypot(row.width_m, row.depth_m) / 2
    return row.tract or "", row.x - far, row.y - far, row.x + far, row.y + far


DECALS_ROWS = Collection(
    "decals", Decal, "decal", in_tract=True, packed=True, most=MOST_DECALS, seen=_seen,
    order=lambda pair: (pair[1].order, pair[0]),
)  # fmt: skip


def picture_of(world: OpenWorld, row: Decal) -> FloatArray | None:
    """How opaque a mark is at every place; None where its picture has gone."""
    if row.picture == LETTERS:
        return lettering(row.text)
    if row.picture in DECALS:
        return decal(row.picture)
    try:
        return np.asarray(world.picture(row.picture), np.float32)
    except NotFound:
        return None


def lay_decals(world: OpenWorld, land: Land, level: int, part: Window, ground: FloatArray) -> None:
    """Lay the marks of a land on a picture of its ground, which is changed: shape (3, rows, cols), 0 to 255.

    part : the pixels of a level (pixel 0 is on post 0)
    """
    if not world.rows[DECALS_ROWS.name]:
        return
    pixel = land.grid.spacing * 2.0**level
    grid = land.grid
    west, north = grid.x_of(0) + part.col0 * pixel, grid.y_of(0) - part.row0 * pixel
    east, south = west + part.cols * pixel, north - part.rows * pixel
    found = []
    for piece in land.parts:
        for key, row in world.each_in(DECALS_ROWS, piece.tract.row.id):
            far = math.hypot(row.width_m, row.depth_m) / 2
            x, y = row.x + piece.x, row.y + piece.y
            if far * 2 >= SMALLEST_PX * pixel and west - far <= x <= east + far and south - far <= y <= north + far:
                found.append((row.order, key, row, x, y))
    for _, _, row, x, y in sorted(found, key=lambda one: one[:2]):
        picture = picture_of(world, row)
        if picture is None:
            continue
        size = row.width_m / pixel, row.depth_m / pixel
        scale = min(picture.shape[1] / size[0], picture.shape[0] / size[1])
        colour = int(row.colour[1:3], 16), int(row.colour[3:5], 16), int(row.colour[5:7], 16)
        place = (x - west) / pixel, (north - y) / pixel
        laid_on(ground, picture, place, size, row.turn_deg, colour, row.strength, scale)


class OnTop(TypedDict):
    """A mark on what can be stood on: its key, that of the thing, and which of its pieces; `triangles` are what of the
    piece it marks, three corners each of right, ahead and up in the piece's frame [m], and right and ahead in the mark,
    0 to 1."""

    decal: str
    thing: str
    number: int
    triangles: list[float]


def decals_on_tops(world: OpenWorld) -> list[OnTop]:
    """The marks that lie on pieces, later ones last."""
    marked: list[tuple[str, Decal, tuple[float, float], Stood]] = []
    with world.lock:
        for tract_id in world.tracts:
            land = world.land_from(tract_id)
            part = next(part for part in land.parts if part.tract.row.id == tract_id)
            for key, row in world.each_in(DECALS_ROWS, tract_id):
                x, y, far = row.x + part.x, row.y + part.y, math.hypot(row.width_m, row.depth_m) / 2
                stood = stood_in(world, land, (x - far, y - far, x + far, y + far)) if row.tops else []
                marked += [(key, row, (x, y), one) for one in stood if one.entry.stood_on]
    found: list[OnTop] = []
    for key, row, spot, one in marked:
        faces = entry_shape(one.entry, one.look)[:, :3].reshape(-1, 3, 3).astype(np.float64)
        size = row.width_m / one.pose.size, row.depth_m / one.pose.size
        made = draped(faces, one.pose.local(*spot), size, row.turn_deg - one.pose.turn_deg)
        if len(made):
            told = np.round(made, 4).ravel().tolist()
            found.append({"decal": key, "thing": one.key, "number": one.number, "triangles": told})
    return found
