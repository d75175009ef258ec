"""Tracts: what is stored of a land, where each lies, and which are joined."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from fernfield.core.grid import Grid, Window, bilinear
from fernfield.store.worlds import TractRow
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.overviews import Overviews
from fernfield.work.kernel.posts.tiles import TileCache
from fernfield.work.kernel.rows import Collection, Name, Row, TractId
from fernfield.work.kernel.says import Say

Kind = Annotated[
    Literal["open", "underground"], Say("Sort", called={"open": "open land", "underground": "underground level"})
]


class TractPlace(Row):
    """Collection "tracts", by the tract's id: its name, and where on the layout its south-west corner lies. [m]

    A tract without such a row is no part of the world any more (or not yet): its ground is kept for the logbook.
    """

    name: Name
    position: Annotated[int, Field(ge=0, le=999), Say("", asked=False)] = 0
    x: Annotated[float, Field(ge=-1e6, le=1e6), Say("West edge at", "m")] = 0.0
    y: Annotated[float, Field(ge=-1e6, le=1e6), Say("South edge at", "m")] = 0.0
    kind: Kind = "open"


class Join(Row):
    """Collection "joins": two tracts whose edges are one line, and over how far each was blended to it. [m]

    `side` is that of the first tract on which the second lies.
    """

    first: TractId
    second: TractId
    side: Literal["east", "north"]
    blend_m: Annotated[float, Field(ge=0, le=2_000), Say("Blend", "m")] = 40.0


def _in_order(pair: tuple[str, TractPlace]) -> tuple[int, str]:
    return pair[1].position, pair[0]


PLACES = Collection("tracts", TractPlace, "tract", names_tracts=True, told=False, plain=False, order=_in_order)
JOINS = Collection("joins", Join, "join", names_tracts=True, plain=False)


@dataclass
class Tract:
    """An open tract: its stored row, its posts, the cache of its tiles, and their coarser levels."""

    row: TractRow
    grid: Grid
    cache: TileCache
    overviews: Overviews

    def elevation(self, x: float, y: float) -> float:
        """Elevation of the ground at (x, y), between the posts. [m]"""
        row, col = self.grid.row_of(y), self.grid.col_of(x)
        r = min(max(int(row), 0), self.grid.rows - 2)
        c = min(max(int(col), 0), self.grid.cols - 2)
        return bilinear(self.cache.read(HEIGHT, Window(r, c, r + 2, c + 2)), row - r, col - c)
