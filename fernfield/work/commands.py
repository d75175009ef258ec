"""The commands: everything that can be done to a world, as a page, a script or the demo says it."""

from __future__ import annotations

import itertools
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.work.entries import Cover, Elevation, Key, Light, Mix, Name, Thing, Water

Coordinate = Annotated[float, Field(ge=-1e6, le=1e6)]
Seconds = Annotated[float, Field(ge=0, le=86_400)]
PathPoint = tuple[Coordinate, Coordinate, Seconds]

MASK_TOOLS = ("paint", "take_away", "sow", "thin")
TOOLS = (*GROUND_TOOLS, *MASK_TOOLS)
MOST_POINTS = 100_000
LONGEST_STROKE_S = 600.0
LARGEST_RADIUS_M = 2_000.0


class Command(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class StrokeStart(Command):
    """A stroke without its path. `strength` is m/s for raise, lower and flatten, else percent per second.

    `target_m` is for flatten (left out: the elevation where the stroke began), `cover` for
    paint and take_away, `mix` for sow and thin.
    """

    tool: str
    radius_m: Annotated[float, Field(gt=0, le=LARGEST_RADIUS_M)]
    softness: Annotated[float, Field(ge=0, le=1)]
    strength: Annotated[float, Field(gt=0, le=1000)]
    target_m: Elevation | None = None
    cover: Key | None = None
    mix: Key | None = None

    @model_validator(mode="after")
    def _fits_its_tool(self) -> StrokeStart:
        if self.tool not in TOOLS:
            raise InvalidInput(f"tool must be one of {', '.join(TOOLS)}, not {self.tool!r}", "tool")
        for field, tools in (("target_m", ("flatten",)), ("cover", MASK_TOOLS[:2]), ("mix", MASK_TOOLS[2:])):
            given = getattr(self, field) is not None
            if given and self.tool not in tools:
                raise InvalidInput(f"{field} goes with {' or '.join(tools)}, not with {self.tool}", field)
            if not given and self.tool in tools and field != "target_m":
                raise InvalidInput(f"{self.tool} needs {field}", field)
        return self


class Stroke(StrokeStart):
    """A whole stroke: `path` is [x m, y m, seconds] of the pointer, in order of time."""

    do: Literal["stroke"] = "stroke"
    path: Annotated[list[PathPoint], Field(min_length=1, max_length=MOST_POINTS)]

    @model_validator(mode="after")
    def _time_runs_forward(self) -> Stroke:
        times = [point[2] for point in self.path]
        for before, after in itertools.pairwise(times):
            if after < before:
                raise InvalidInput(f"times in a path must not run backwards: {after} s after {before} s", "path")
        if times[-1] - times[0] > LONGEST_STROKE_S:
            words = f"a stroke lasts at most {LONGEST_STROKE_S:g} s, not {times[-1] - times[0]:g} s"
            raise InvalidInput(words, "path")
        return self


class Rename(Command):
    do: Literal["rename"] = "rename"
    name: Name


class SetWater(Command):
    do: Literal["water"] = "water"
    water: Water


class SetLight(Command):
    do: Literal["light"] = "light"
    light: Light


class PutCover(Command):
    """Change a cover that is there."""

    do: Literal["cover"] = "cover"
    key: Key
    cover: Cover


class PutMix(Command):
    """Change a mix that is there: its seed, densities and sizes. What stands follows."""

    do: Literal["mix"] = "mix"
    key: Key
    mix: Mix


class PutThing(Command):
    """Place a piece or a start, or move, turn or change the one with this key."""

    do: Literal["thing"] = "thing"
    key: Key
    thing: Thing


class RemoveThing(Command):
    do: Literal["remove_thing"] = "remove_thing"
    key: Key


Single = Rename | SetWater | SetLight | PutCover | PutMix | PutThing | RemoveThing


class Together(Command):
    """Edits that make one revision: all of them or none. Each is read against the world as it is before them."""

    do: Literal["together"] = "together"
    edits: Annotated[tuple[Single, ...], Field(min_length=1, max_length=1000)]


Edit = Single | Together
