"""Ground: sheets, the level book, the limits of the land, and the recipes of made land."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.core.landforms import LANDFORMS
from fernfield.work.kernel.declared import Lies, Names
from fernfield.work.kernel.rows import ONLY, Collection, Elevation, Key, Name, Row, Spot, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import check_box


class Limits(Row):
    """Collection "limits", key "world": no tool takes the ground past these. [m]"""

    lowest_m: Annotated[Elevation, Say("Never below", "m")] = -12_000.0
    highest_m: Annotated[Elevation, Say("Never above", "m")] = 12_000.0

    @model_validator(mode="after")
    def _lowest_first(self) -> Limits:
        if self.lowest_m >= self.highest_m:
            words = f"lowest_m must be below highest_m, not {self.lowest_m:g} and {self.highest_m:g}"
            raise InvalidInput(words, "lowest_m")
        return self


class Sheet(Row):
    """Collection "sheets": a set of ground edits over the base; the ground is the sum of those that are not hidden."""

    name: Name
    position: Annotated[int, Field(ge=0, le=63), UNASKED] = 0
    weight: Annotated[float, Field(ge=0, le=1), Say("Weight", "%", percent=True)] = 1.0
    hidden: Annotated[bool, Say("hidden")] = False
    locked: Annotated[bool, Say("locked")] = False


class Level(Row):
    """Collection "levels", the level book: a remembered elevation."""

    name: Name
    elevation_m: Annotated[Elevation, Say("Elevation", "m")]


class Landscape(Row):
    """One landform of a recipe: how much of the region it takes beside the others, the size of its patches, and its
    own settings where they differ from the first ones. [m]"""

    name: str
    weight: Annotated[float, Field(gt=0, le=1000)] = 1.0
    patch_m: Annotated[float, Field(ge=10, le=100_000), Say("Patches", "m", under="Patches")] = 600.0
    settings: Annotated[dict[str, float], UNASKED] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _known(self) -> Landscape:
        form = LANDFORMS.get(self.name)
        if form is None:
            raise InvalidInput(f"name must be one of {', '.join(LANDFORMS)}, not {self.name!r}", "name")
        own = {setting.name: setting for setting in form.settings}
        for name, value in self.settings.items():
            if name not in own:
                raise InvalidInput(f"settings of {self.name} are {', '.join(own)}, not {name!r}", f"settings.{name}")
            own[name].check(value)
        return self

    @property
    def values(self) -> dict[str, float]:
        return {**LANDFORMS[self.name].first, **self.settings}


class Weathering(Row):
    """What the weather does to made land: streams that run for a time while it rises, drops of rain for each square
    metre, then passes of frost.

    streams_ka : for how long [thousand years]; uplift_mm : how fast the land rises meanwhile [mm/a]
    erodes : how fast streams cut, in millionths (K of the stream power law); concavity : of their profiles (m / n)
    """

    streams_ka: Annotated[float, Field(ge=0, le=20_000), Say("Thousands of years of streams", under="Weather")] = 0.0
    uplift_mm: Annotated[float, Field(ge=0, le=10), Say("Land rises", "mm/year", under="How streams cut")] = 0.2
    erodes: Annotated[float, Field(ge=0.01, le=1_000), Say("Streams cut", "millionths", under="How streams cut")] = 5.0
    concavity: Annotated[float, Field(ge=0.1, le=0.9), Say("Concavity", under="How streams cut")] = 0.45

    drops_per_m2: Annotated[float, Field(ge=0, le=20), Say("Rain", "/m²", under="Weather")] = 0.0
    passes: Annotated[int, Field(ge=0, le=5_000), Say("Frost", "passes", under="Weather")] = 0
    repose_deg: Annotated[float, Field(ge=1, le=80), UNASKED] = 36.0


class Recipe(Row):
    """Collection "recipes", by the key of the sheet that it made: land from a seed.

    base_m : level that it is made on; height_m : what the highest relief among the landscapes becomes (left out:
    their own); widen : what does not bear its height is made as many times wider as it needs; plot or box : where, the
    whole tract when left out; feather_m : how far it blends into the land around
    """

    seed: Annotated[int, Field(ge=0, lt=2**31), Say("Seed")] = 1
    landscapes: Annotated[tuple[Landscape, ...], Field(min_length=1, max_length=12)]
    blend_m: Annotated[float, Field(ge=0, le=5_000), Say("Blend", "m", under="Patches")] = 120.0
    base_m: Annotated[Elevation, Say("Ground begins at", "m", under="More")] = 2.0
    height_m: Annotated[float | None, Field(gt=0, le=6_000), Say("Height", "m", left_out="their own")] = None
    widen: Annotated[bool, Say("Make landscapes wider where they are too tall for their patch", under="More")] = False
    plot: Annotated[Key | None, Names("plots", "delete"), UNASKED] = None
    box: Annotated[tuple[float, float, float, float] | None, Lies("box"), UNASKED] = None
    outline: Annotated[tuple[Spot, ...] | None, Field(min_length=3, max_length=2000), Lies("outline"), UNASKED] = None
    feather_m: Annotated[float, Field(ge=0, le=2_000), Say("Soft edge", "m", under="More")] = 40.0
    weathering: Annotated[Weathering | None, UNASKED] = None
    tract: Annotated[TractId | None, UNASKED] = None

    @model_validator(mode="after")
    def _one_place(self) -> Recipe:
        if sum(where is not None for where in (self.plot, self.box, self.outline)) > 1:
            raise InvalidInput("a recipe's region is a plot, a box or an outline, not several of them", "box")
        check_box(self.box)
        return self

    @property
    def scale(self) -> float:
        """Of all heights."""
        tallest = max(landscape.values[LANDFORMS[landscape.name].relief] for landscape in self.landscapes)
        return 1.0 if self.height_m is None else self.height_m / tallest


MOST_SHEETS = 32

LIMITS = Collection(
    "limits", Limits, "limits of the ground", only=ONLY, first=Limits(),
    words=lambda row: f"Ground kept from {row.lowest_m:g} to {row.highest_m:g} m",
)  # fmt: skip
SHEETS = Collection(
    "sheets", Sheet, "sheet", plain=False, most=MOST_SHEETS, order=lambda pair: (pair[1].position, pair[0])
)
LEVELS = Collection("levels", Level, "level")
RECIPES = Collection("recipes", Recipe, "recipe", in_tract=True, plain=False, stays=True)


def sheets_of(world: OpenWorld) -> list[tuple[str, Sheet]]:
    """Key and sheet, in their order."""
    return world.each(SHEETS)
