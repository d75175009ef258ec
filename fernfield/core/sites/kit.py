"""The kit: what can be placed. An entry says what it is made of; its shape, outline and what of it blocks follow."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray

Blocks = Literal["nothing", "outline", "box", "cylinder", "hull", "parts"]
Meets = Literal["upright", "lies", "sinks", "floats", "hangs", "pad"]

BLOCKS: dict[str, str] = {
    "nothing": "nothing", "outline": "its outline, up to its height", "box": "the box around it",
    "cylinder": "a cylinder around it", "hull": "its hull", "parts": "each of its parts",
}  # fmt: skip
"""What of an entry stands in a walker's way."""
MEETS: dict[str, str] = {
    "upright": "upright", "lies": "lies along the ground", "sinks": "upright, sunk in", "floats": "floats on water",
    "hangs": "hangs from above", "pad": "upright, on a level pad",
}  # fmt: skip
"""How an entry meets the ground."""

OVERHEAD_M = 3.0
"""What begins higher over the foot than this is over people's heads, and no part of the outline (our choice)."""

Vector = tuple[float, float, float]
Corners = NDArray[np.float64]
"""A convex polygon, shape (corners, 2), counter-clockwise, in the entry's frame: x across, y along its facing. [m]"""


@dataclass(frozen=True, slots=True)
class Part:
    """One solid that an entry is made of, in the entry's frame: x to the right, y ahead, z up from its foot.

    form : one of `solids.FORMS`
    size : width (x), depth (y), height (z) before it is turned [m]
    at : the middle of its foot [m]
    ink : which of the entry's colours it has
    turn_deg, pitch_deg, roll_deg : about its foot: clockwise seen from above, forward, and to the right, in this order
    taper : how wide its top is beside its foot
    least : the least detail at which it is drawn, 0 (far away) to 2 (near)
    firm : whether it stands in the way
    looks : the looks that have it; all when none is said
    """

    form: str
    size: Vector
    at: Vector = (0.0, 0.0, 0.0)
    ink: str = "body"
    turn_deg: float = 0.0
    pitch_deg: float = 0.0
    roll_deg: float = 0.0
    taper: float = 1.0
    least: int = 0
    firm: bool = True
    looks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Look:
    """One way that an entry looks: colours that differ from its own."""

    name: str
    label: str
    inks: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class DataField:
    """What each placed piece of an entry says of its own.

    sort : "number", "text" or "tick"; unit, low, high : of a number; first : what it is where nothing is said
    """

    name: str
    label: str
    sort: Literal["number", "text", "tick"] = "number"
    unit: str = ""
    low: float = 0.0
    high: float = 1e9
    first: float | str | bool = 0.0


@dataclass(frozen=True, slots=True)
class Shining:
    """The light of an entry: so high over its foot [m], so bright [lm], of a colour."""

    over_m: float
    lumens: float
    colour: str = "#ffd9a0"


@dataclass(frozen=True, slots=True)
class Solid:
    """What of an entry stands in the way: a box, a cylinder or a convex polygon in its frame, from z0 up to z1. [m]

    half : half the width and depth of a box; (0, 0) for the others
    radius : of the circle around it, and of a cylinder
    corners : of a polygon about (x, y)
    """

    x: float
    y: float
    z0: float
    z1: float
    radius: float
    half: tuple[float, float] = (0.0, 0.0)
    turn_deg: float = 0.0
    corners: tuple[tuple[float, float], ...] = ()


PLAIN = Look("plain", "as built")


@dataclass(frozen=True)
class Entry:
    """One entry of the kit.

    name : its key; folder, tags : how it is found
    parts, inks : what it is made of, and its colours as #rrggbb
    looks : the ways that it looks; the first is its usual one
    tints : colours that it can be washed with, besides none
    blocks, meets : see `BLOCKS` and `MEETS`; sinks_m : how deep it sits in the ground [m]
    stood_on : whether people can stand on it
    margin_m : growth keeps so far away from its outline [m]
    pad_m, shoulder_m : level ground around its outline, and how far beyond the land is led to it [m]
    overlaps : whether it may stand inside of others
    resource : whether it is something to gather
    own : corners of triangles of a shape that was brought, shape (n, 9), in the place of parts
    """

    name: str
    label: str
    folder: str = ""
    tags: tuple[str, ...] = ()
    parts: tuple[Part, ...] = ()
    inks: Mapping[str, str] = field(default_factory=dict)
    looks: tuple[Look, ...] = (PLAIN,)
    tints: tuple[str, ...] = ()
    blocks: Blocks = "parts"
    meets: Meets = "upright"
    sinks_m: float = 0.0
    stood_on: bool = True
    margin_m: float = 0.5
    pad_m: float = 0.0
    shoulder_m: float = 0.0
    overlaps: bool = False
    resource: bool = False
    shines: Shining | None = None
    fields: tuple[DataField, ...] = ()
    own: FloatArray | None = field(default=None, compare=False)

    @cached_property
    def points(self) -> NDArray[np.float64]:
        """All corners of its shape at its finest, shape (n, 3). [m]"""
        from fernfield.core.sites.solids import built  # the shapes of parts stand above this module

        if self.own is not None:
            return np.asarray(self.own[:, :3], np.float64)
        return np.asarray(built(self, self.looks[0].name, 2).at, np.float64)

    @property
    def colour(self) -> str:
        """Its main colour, for small marks."""
        return next(iter(self.inks.values()), "#8a8676")

    @property
    def size(self) -> tuple[float, float, float]:
        """Width, depth and height of the box around it. [m]"""
        low, high = self.box
        return high[0] - low[0], high[1] - low[1], high[2]

    @cached_property
    def box(self) -> tuple[Vector, Vector]:
        """The lowest and highest corner of the box around it; that begins at its foot or below. [m]"""
        low, high = self.points.min(axis=0), self.points.max(axis=0)
        return tuple(low.tolist()), tuple(high.tolist())

    @cached_property
    def outline(self) -> tuple[Corners, ...]:
        """The ground that it takes up: convex polygons, which may overlap."""
        from fernfield.core.sites.solids import footprints

        return footprints(self)

    @cached_property
    def solids(self) -> tuple[Solid, ...]:
        """What of it stands in a walker's way."""
        from fernfield.core.sites.solids import solids_of

        return solids_of(self)

    @cached_property
    def bodies(self) -> tuple[Solid, ...]:
        """What of it throws a shadow, whether it stands in the way or not."""
        from fernfield.core.sites.solids import solids_of

        return solids_of(self, "parts")

    @cached_property
    def reach(self) -> float:
        """How far it reaches from its axis. [m]"""
        return float(np.hypot(self.points[:, 0], self.points[:, 1]).max())

    def look(self, name: str | None) -> Look:
        """A look by its name; the usual one where there is none such."""
        return next((one for one in self.looks if one.name == name), self.looks[0])

    @cached_property
    def triangles(self) -> tuple[int, int, int]:
        """How many it has at each detail, from far away first."""
        from fernfield.core.sites.solids import built

        if self.own is not None:
            return (len(self.own) // 3,) * 3
        far, middle, near = (built(self, self.looks[0].name, detail).triangles for detail in (0, 1, 2))
        return far, middle, near


TINT_COLOURS = ("#7d3b2a", "#5d7a4a", "#3f617a", "#b89b4f", "#2f2f33")
"""What entries can be washed with."""
