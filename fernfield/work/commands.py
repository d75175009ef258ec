"""The commands: everything that can be done to a world, as a page, a script or the demo says it."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, create_model, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.work.entries import (
    BOOKS,
    Cover,
    Elevation,
    Icon,
    Key,
    Level,
    Light,
    Limits,
    Line,
    Mix,
    Name,
    Plot,
    Recipe,
    Sheet,
    Symmetry,
    Thing,
    TractId,
    Water,
    check_box,
)

Coordinate = Annotated[float, Field(ge=-1e6, le=1e6)]
Seconds = Annotated[float, Field(ge=0, le=86_400)]
Pressure = Annotated[float, Field(ge=0, le=1)]


def _pressed(point: Any) -> Any:
    """A point without a pen's pressure was pressed as hard as can be."""
    if isinstance(point, list | tuple) and len(point) < 3:
        raise InvalidInput(f"a point is x, y, seconds and maybe a pen's pressure, not {len(point)} numbers")
    return [*point, 1.0] if isinstance(point, list | tuple) and len(point) == 3 else point


PathPoint = Annotated[tuple[Coordinate, Coordinate, Seconds, Pressure], BeforeValidator(_pressed)]
"""x [m], y [m], time [s], and how hard a pen was pressed where it says so."""

MASK_TOOLS = ("paint", "take_away", "sow", "thin", "open", "close")
TOOLS = (*GROUND_TOOLS, *MASK_TOOLS)
MOST_POINTS = 100_000
LONGEST_STROKE_S = 600.0
LARGEST_RADIUS_M = 2_000.0


class Command(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


Degrees = Annotated[float, Field(ge=0, le=90)]


class KeepTo(Command):
    """Where a stroke may work: inside or outside plots (coming in over `feather_m` from their edge), between two
    elevations, between two slopes, on wet or dry ground; all as the ground was before the stroke."""

    plots: Annotated[tuple[Key, ...], Field(max_length=32)] = ()
    outside: bool = False
    feather_m: Annotated[float, Field(ge=0, le=500)] = 0.0
    from_m: Elevation | None = None
    to_m: Elevation | None = None
    from_deg: Degrees | None = None
    to_deg: Degrees | None = None
    water: Literal["wet", "dry"] | None = None

    @model_validator(mode="after")
    def _smaller_first(self) -> KeepTo:
        for low, high in (("from_m", "to_m"), ("from_deg", "to_deg")):
            a, b = getattr(self, low), getattr(self, high)
            if a is not None and b is not None and a > b:
                raise InvalidInput(f"{low} must not be above {high}, not {a:g} and {b:g}", low)
        return self


def _own_fields() -> dict[str, Any]:
    """The fields that belong to single tools, as the tools declare them; which range holds is checked by the tool."""
    fields: dict[str, Any] = {}
    for tool in GROUND_TOOLS.values():
        for setting in tool.settings:
            of = f"{setting.label} of {tool.label}"
            if setting.name in fields:
                of = f"{fields[setting.name][1].description}; {of}"
            kind: Any = Annotated[str, Field(max_length=60)] if setting.worded else int if setting.whole else float
            fields[setting.name] = (kind | None, Field(default=None, description=of))
    return fields


if TYPE_CHECKING:

    class ToolFields(Command):
        target_m: float | None = None

else:
    ToolFields = create_model("ToolFields", __base__=Command, **_own_fields())

NEEDED = {"cover": MASK_TOOLS[:2], "mix": MASK_TOOLS[2:4]}
"""Fields that some tools cannot do without."""


class StrokeStart(ToolFields):
    """A stroke without its path. `strength` is m/s for raise, lower, flatten and roughen, else percent per second.

    Besides the settings of its tool, every stroke may carry the form of its brush (`shape`,
    `turn_deg`, `turn_by`, `tip`), the `sheet` that a ground tool works into (left out: the
    base), and what it keeps to. `cover` is for paint and take_away, `mix` for sow and thin.
    """

    tool: str
    radius_m: Annotated[float, Field(gt=0, le=LARGEST_RADIUS_M)]
    softness: Annotated[float, Field(ge=0, le=1)]
    strength: Annotated[float, Field(gt=0, le=1000)]
    shape: Literal["round", "square", "bar"] = "round"
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    turn_by: Literal["fixed", "random", "path"] = "fixed"
    tip: Key | None = None
    sheet: Key | None = None
    keep_to: KeepTo | None = None
    cover: Key | None = None
    mix: Key | None = None

    @model_validator(mode="before")
    @classmethod
    def _laid_at_once(cls, values: Any) -> Any:
        """Tools that lay a whole path have no radius, softness and strength of their own."""
        named = values.get("tool") if isinstance(values, dict) else None
        tool = GROUND_TOOLS.get(named) if isinstance(named, str) else None
        if tool is not None and tool.lay is not None:
            return {"radius_m": 1.0, "softness": 0.0, "strength": 1.0, **values}
        return values

    @model_validator(mode="after")
    def _fits_its_tool(self) -> StrokeStart:
        if self.tool not in TOOLS:
            raise InvalidInput(f"tool must be one of {', '.join(TOOLS)}, not {self.tool!r}", "tool")
        own = {setting.name: setting for setting in GROUND_TOOLS[self.tool].settings} if self.on_ground else {}
        for field in ToolFields.model_fields:
            value = getattr(self, field)
            if value is not None and field not in own:
                tools = [t.name for t in GROUND_TOOLS.values() if field in t.first]
                raise InvalidInput(f"{field} goes with {' or '.join(tools)}, not with {self.tool}", field)
            if value is not None:
                own[field].check(value)
        for field, needed in NEEDED.items():
            given = getattr(self, field) is not None
            if given and self.tool not in needed:
                raise InvalidInput(f"{field} goes with {' or '.join(needed)}, not with {self.tool}", field)
            if not given and self.tool in needed:
                raise InvalidInput(f"{self.tool} needs {field}", field)
        if self.sheet is not None and not self.on_ground:
            raise InvalidInput(f"sheet goes with {' or '.join(GROUND_TOOLS)}, not with {self.tool}", "sheet")
        return self

    @property
    def on_ground(self) -> bool:
        return self.tool in GROUND_TOOLS

    @property
    def own(self) -> dict[str, Any]:
        """The settings of its tool, with their first values where they are left out."""
        if not self.on_ground:
            return {}
        first = GROUND_TOOLS[self.tool].first
        given = {name: getattr(self, name) for name in first}
        return {name: first[name] if value is None else value for name, value in given.items()}


class Stroke(StrokeStart):
    """A whole stroke: `path` is [x m, y m, seconds] of the pointer, in order of time, and a pen's pressure if any."""

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
    """Another name or description; what is left out stays."""

    do: Literal["rename"] = "rename"
    name: Name | None = None
    description: Annotated[str, Field(max_length=2000)] | None = None


class SetIcon(Command):
    do: Literal["icon"] = "icon"
    icon: Icon | None


class PlaceTract(Command):
    """Another name or place on the layout of a tract; what is left out stays. [m]"""

    do: Literal["place_tract"] = "place_tract"
    key: TractId
    name: Name | None = None
    x: Coordinate | None = None
    y: Coordinate | None = None
    kind: Literal["open", "underground"] | None = None


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


class PutRow(Command):
    """Put a plot, a level of the level book, or a line of the section; or change the one with this key."""

    do: Literal["row"] = "row"
    book: Literal["plots", "levels", "lines"]
    key: Key
    row: Plot | Level | Line

    @model_validator(mode="before")
    @classmethod
    def _of_its_book(cls, values: Any) -> Any:
        named = values.get("book") if isinstance(values, dict) else None
        model = BOOKS.get(named) if isinstance(named, str) else None
        if model is not None and not isinstance(values.get("row"), model):
            return {**values, "row": model.model_validate(values.get("row"))}
        return values


class RemoveRow(Command):
    do: Literal["remove_row"] = "remove_row"
    book: Literal["plots", "levels", "lines"]
    key: Key


class SetSymmetry(Command):
    do: Literal["symmetry"] = "symmetry"
    symmetry: Symmetry


class SetLimits(Command):
    do: Literal["limits"] = "limits"
    limits: Limits


Single = (
    Rename | SetWater | SetLight | PutCover | PutMix | PutThing | RemoveThing | PutRow | RemoveRow | SetSymmetry
    | SetLimits | SetIcon | PlaceTract
)  # fmt: skip


class Together(Command):
    """Edits that make one revision: all of them or none. Each is read against the world as it is before them."""

    do: Literal["together"] = "together"
    edits: Annotated[tuple[Single, ...], Field(min_length=1, max_length=1000)]


Edit = Single | Together


# Sheets. Each of these may change the ground.


class PutSheet(Command):
    """Add a sheet, or change the one with this key: its name, place, weight, whether it is hidden or locked."""

    do: Literal["sheet"] = "sheet"
    key: Key
    sheet: Sheet


class ClearSheet(Command):
    """Take everything out of a sheet."""

    do: Literal["clear_sheet"] = "clear_sheet"
    key: Key


class MergeSheet(Command):
    """Put what a sheet holds into another, or into the base, and remove it. The ground stays."""

    do: Literal["merge_sheet"] = "merge_sheet"
    key: Key
    into: Key | None = None


class RemoveSheet(Command):
    """Delete a sheet with what it holds."""

    do: Literal["remove_sheet"] = "remove_sheet"
    key: Key


# Areas


class Area(Command):
    """A part of a tract: a plot, or a rectangle x0, y0, x1, y1 [m]; the whole tract when both are left out."""

    plot: Key | None = None
    box: tuple[Coordinate, Coordinate, Coordinate, Coordinate] | None = None
    feather_m: Annotated[float, Field(ge=0, le=500)] = 0.0

    @model_validator(mode="after")
    def _one_of_them(self) -> Area:
        if self.plot is not None and self.box is not None:
            raise InvalidInput("an area is a plot or a box, not both", "box")
        check_box(self.box)
        return self


class Reset(Area):
    """Bring an area back to the base (the tract as it began), to a revision, or to one elevation."""

    do: Literal["reset"] = "reset"
    to: Literal["base", "revision", "elevation"]
    revision: Annotated[int, Field(ge=0)] | None = None
    elevation_m: Elevation | None = None
    sheet: Key | None = None

    @model_validator(mode="after")
    def _says_where(self) -> Reset:
        for field, to in (("revision", "revision"), ("elevation_m", "elevation")):
            if (getattr(self, field) is not None) != (self.to == to):
                verb = "needs" if self.to == to else "takes no"
                raise InvalidInput(f"a reset to {self.to} {verb} {field}", field)
        return self


class MoveLand(Area):
    """Carry the land of a plot or a box so that its middle comes to (x, y), also in another tract.

    It is turned by `turn_deg` clockwise after being mirrored east for west, lifted by
    `lift_m`, and blended into the land over `blend_m` inside its edge. Without `copy_land`
    the place that it leaves is closed from around. Growth, covers and pieces come along
    when asked.
    """

    do: Literal["move"] = "move"
    x: Coordinate
    y: Coordinate
    tract: Annotated[str, Field(max_length=40)] | None = None
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    mirror: bool = False
    lift_m: Annotated[float, Field(ge=-2000, le=2000)] = 0.0
    blend_m: Annotated[float, Field(ge=0, le=500)] = 10.0
    copy_land: bool = False
    growth: bool = False
    covers: bool = False
    pieces: bool = False
    sheet: Key | None = None

    @model_validator(mode="after")
    def _takes_something(self) -> MoveLand:
        if self.plot is None and self.box is None:
            raise InvalidInput("what is moved must be a plot or a box", "box")
        return self


class Weather(Area):
    """Frost or rain over an area, as a job.

    frost : `passes` at the angle of repose; rain : `drops_per_m2` from a `seed`. Within `feather_m` of the edge of
    a plot or box less is done, so that what drops carry is not laid down in a bank along it.
    """

    do: Literal["weather"] = "weather"
    feather_m: Annotated[float, Field(ge=0, le=500)] = 20.0
    kind: Literal["frost", "rain"]
    repose_deg: Annotated[float, Field(ge=1, le=80)] = 34.0
    passes: Annotated[int, Field(ge=1, le=20_000)] = 200
    drops_per_m2: Annotated[float, Field(gt=0, le=100)] = 1.0
    seed: Annotated[int, Field(ge=0, lt=2**31)] = 1
    capacity: Annotated[float, Field(gt=0, le=50)] = 3.0
    inertia: Annotated[float, Field(ge=0, lt=1)] = 0.1
    sheet: Key | None = None


class PasteSheet(Command):
    """What a sheet's file holds becomes a new sheet."""

    do: Literal["paste_sheet"] = "paste_sheet"
    key: Key
    sheet: Sheet


class MakeLand(Command):
    """Land from a recipe, in a sheet of its own: made when there is none of that key, made anew when there is."""

    do: Literal["make_land"] = "make_land"
    key: Key
    name: Name
    recipe: Recipe


class PressFile(Area):
    """An elevation file pressed into a plot or a box: stretched to its bounds, lifted, blended in over `feather_m`."""

    do: Literal["press_file"] = "press_file"
    feather_m: Annotated[float, Field(ge=0, le=500)] = 10.0
    lift_m: Annotated[float, Field(ge=-6000, le=6000)] = 0.0
    sheet: Key | None = None


class PutBoundary(Command):
    """A boundary along the edge of a tract: a rim, or an edge sunk `depth_m` under the sea. [m, °]"""

    do: Literal["boundary"] = "boundary"
    kind: Literal["rim", "sunk"] = "rim"
    width_m: Annotated[float, Field(gt=0, le=5_000)] = 60.0
    steep_deg: Annotated[float, Field(ge=1, le=80)] = 55.0
    depth_m: Annotated[float, Field(ge=0, le=500)] = 6.0
    sheet: Key | None = None


class JoinTracts(Command):
    """Bring the edges of two tracts that touch to one line, blended over `blend_m` on either side. [m]"""

    do: Literal["join"] = "join"
    first: TractId
    second: TractId
    blend_m: Annotated[float, Field(ge=0, le=2_000)] = 40.0
    sheet: Key | None = None


class Dress(Command):
    """Take what is proposed for the land of a recipe: the covers of its landscapes, their growth, or both."""

    do: Literal["dress"] = "dress"
    sheet: Key
    covers: bool = True
    growth: bool = True


GroundEdit = (
    Dress
    | PressFile
    | PutBoundary
    | JoinTracts
    | MakeLand
    | PutSheet
    | ClearSheet
    | MergeSheet
    | RemoveSheet
    | Reset
    | MoveLand
    | Weather
    | PasteSheet
)
