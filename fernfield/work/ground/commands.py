"""The commands of the ground: sheets, areas, and made land."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.work.ground.rows import Recipe, Sheet
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Coordinate, Elevation, Key, Name, RevisionNumber
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.plots.areas import Area, Feather

SheetKey = Annotated[Key | None, UNASKED]


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


class Reset(Area):
    """Bring an area back to the base (the tract as it began), to a revision, or to one elevation."""

    do: Literal["reset"] = "reset"
    to: Annotated[
        Literal["base", "revision", "elevation"],
        Say("To", called={"base": "the land as it began", "revision": "a revision", "elevation": "an elevation"}),
    ]
    revision: Annotated[RevisionNumber | None, Say("Revision", "r", when="to=revision")] = None
    elevation_m: Annotated[Elevation | None, Say("Elevation", "m", when="to=elevation")] = None
    sheet: SheetKey = None

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
    the place that it leaves is closed from around. Growth, covers, and the rows that lie on it
    (pieces, notes, pools, plots, lines) come along when asked.
    """

    do: Literal["move"] = "move"
    feather_m: Annotated[float, Field(ge=0, le=500), UNASKED] = 0.0
    x: Annotated[Coordinate, Say("To east", "m")]
    y: Annotated[Coordinate, Say("To north", "m")]
    tract: Annotated[str | None, Field(max_length=40), UNASKED] = None
    turn_deg: Annotated[float, Field(ge=-360, le=360), Say("Turn", "°", under="Changed")] = 0.0
    mirror: Annotated[bool, Say("mirrored", under="Changed")] = False
    lift_m: Annotated[float, Field(ge=-2000, le=2000), Say("Lift", "m", under="Changed")] = 0.0
    blend_m: Annotated[float, Field(ge=0, le=500), Say("Blended edge", "m", under="Changed")] = 10.0
    copy_land: Annotated[bool, Say("a copy: the land stays here too")] = False
    growth: Annotated[bool, Say("with its growth", under="Goes along")] = False
    covers: Annotated[bool, Say("with its covers", under="Goes along")] = False
    pieces: Annotated[bool, Say("with what is placed and drawn on it", under="Goes along")] = False
    sheet: SheetKey = None

    @model_validator(mode="after")
    def _takes_something(self) -> MoveLand:
        if self.plot is None and self.box is None and self.outline is None:
            raise InvalidInput("what is moved must be a plot, a box or an outline", "box")
        return self


class Weather(Area):
    """Frost or rain over an area, as a job.

    frost : `passes` at the angle of repose; rain : `drops_per_m2` from a `seed`. Within `feather_m` of the edge of
    a plot or box less is done, so that what drops carry is not laid down in a bank along it.
    """

    do: Literal["weather"] = "weather"
    feather_m: Feather = 20.0
    kind: Annotated[Literal["rain", "frost"], Say("By")]
    repose_deg: Annotated[float, Field(ge=1, le=80), Say("Angle of repose", "°", when="kind=frost")] = 34.0
    passes: Annotated[int, Field(ge=1, le=20_000), Say("Passes", when="kind=frost")] = 200
    drops_per_m2: Annotated[float, Field(gt=0, le=100), Say("Drops", "/m²", when="kind=rain")] = 1.0
    seed: Annotated[int, Field(ge=0, lt=2**31), Say("Seed", when="kind=rain")] = 1
    capacity: Annotated[float, Field(gt=0, le=50), UNASKED] = 3.0
    inertia: Annotated[float, Field(ge=0, lt=1), UNASKED] = 0.1
    sheet: SheetKey = None


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
    feather_m: Feather = 10.0
    lift_m: Annotated[float, Field(ge=-6000, le=6000), Say("Lift", "m")] = 0.0
    sheet: SheetKey = None
