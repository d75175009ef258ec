"""Places by name, which every stage may ask for: plots, kept lines, and the symmetry of a fair map."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fernfield.core.brush.symmetry import Image, mirrored, turned
from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.declared import Lies
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import (
    ONLY,
    Bearing,
    Change,
    Collection,
    Look,
    Name,
    Plan,
    Row,
    Spot,
    TractId,
)
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.parts.rows import Parted
from fernfield.work.plots.outlines import check_outline


class Plot(Parted):
    """Collection "plots": a named polygon in a tract, the first when left out. [m]"""

    name: Name
    points: Annotated[tuple[Spot, ...], Field(min_length=3, max_length=500), Lies("outline"), UNASKED]
    tract: Annotated[TractId | None, UNASKED] = None


class Line(Parted):
    """Collection "lines": a kept line of the section in a tract, the first when left out. [m]"""

    name: Name
    points: Annotated[tuple[Spot, ...], Field(min_length=2, max_length=200), Lies("path"), UNASKED]
    tract: Annotated[TractId | None, UNASKED] = None


class Symmetry(Row):
    """Collection "symmetry", key "world": mirrored across the line through (x, y) along the bearing, or turned about
    it so that `times` equal parts make the whole. [m, °]"""

    kind: Annotated[
        Literal["off", "mirror", "turn"],
        Say("Fair map", called={"mirror": "mirrored across a line", "turn": "turned about a point"}),
    ] = "off"
    x: Annotated[float, Field(ge=-1e6, le=1e6), Say("East", "m", when="kind=mirror turn")] = 0.0
    y: Annotated[float, Field(ge=-1e6, le=1e6), Say("North", "m", when="kind=mirror turn")] = 0.0
    bearing_deg: Annotated[Bearing, Say("Line runs along", "°", when="kind=mirror")] = 0.0
    times: Annotated[int, Field(ge=2, le=4), Say("Parts", when="kind=turn")] = 2

    def images(self) -> list[Image]:
        """The copies that everything has, besides itself."""
        if self.kind == "mirror":
            return mirrored(self.x, self.y, self.bearing_deg)
        return turned(self.x, self.y, self.times) if self.kind == "turn" else []

    @property
    def words(self) -> str:
        at = f"{self.x:g}, {self.y:g}"
        if self.kind == "mirror":
            return f"Symmetry: mirrored across the line through {at} along {self.bearing_deg:g}°"
        return f"Symmetry: turned {self.times} times about {at}" if self.kind == "turn" else "Symmetry off"


def _plan_plot(change: Change[Plot], look: Look) -> Plan:
    if change.new is not None and (change.old is None or change.old.points != change.new.points):
        check_outline(change.new.points, "points")
    return plainly(PLOTS, change)


PLOTS = Collection("plots", Plot, "plot", in_tract=True, plan=_plan_plot)
LINES = Collection("lines", Line, "line", in_tract=True)
SYMMETRY = Collection("symmetry", Symmetry, "symmetry", only=ONLY, first=Symmetry(), words=lambda row: row.words)


def check_box(box: tuple[float, float, float, float] | None) -> None:
    """Raises InvalidInput unless the smaller numbers of x0, y0, x1, y1 come first. [m]"""
    if box is not None and not (box[0] < box[2] and box[1] < box[3]):
        raise InvalidInput(f"box must be x0, y0, x1, y1 with the smaller number first, not {box}", "box")
