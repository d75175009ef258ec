"""The rows of a world that are not ground: each a small model, kept as JSON and checked when read."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError, model_validator

from fernfield.core.errors import FormatError, InvalidInput
from fernfield.core.ground.symmetry import Image, mirrored, turned
from fernfield.core.growth.scatter import DENSEST_PER_HA
from fernfield.core.landforms import LANDFORMS
from fernfield.core.sites.kit import KIT

Name = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=80, pattern=r"^[^\x00-\x1f]*$")]
Key = Annotated[str, StringConstraints(pattern=r"^[a-z0-9_-]{1,40}$")]
Elevation = Annotated[float, Field(ge=-12_000, le=12_000)]
Bearing = Annotated[float, Field(ge=0, lt=360)]
Colour = Annotated[str, StringConstraints(pattern=r"^#[0-9a-f]{6}$")]


class Row(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class About(Row):
    """Collection "about", key "world"."""

    name: Name
    description: Annotated[str, StringConstraints(strip_whitespace=True, max_length=2000)] = ""


class Icon(Row):
    """Collection "icon", key "world": a square PNG of at most 120 pixels a side, as base64."""

    png: Annotated[str, StringConstraints(max_length=120_000, pattern=r"^[A-Za-z0-9+/=]+$")]


class Water(Row):
    """Collection "water", key "sea"."""

    sea_level_m: Elevation


class Light(Row):
    """Collection "light", key "sun". Bearing clockwise from north, height above the horizon. [°]"""

    sun_bearing_deg: Bearing = 315.0
    sun_height_deg: Annotated[float, Field(ge=1, le=90)] = 32.0


class CoverRule(Row):
    """The cover is there where the ground is steeper than `above_deg`, growing in over `blend_deg`."""

    above_deg: Annotated[float, Field(ge=0, le=90)]
    blend_deg: Annotated[float, Field(ge=0, le=45)] = 6.0


class Cover(Row):
    """Collection "covers". The base is the one with `position` 0."""

    name: Name
    colour: Colour
    position: Annotated[int, Field(ge=0, le=31)]
    rule: CoverRule | None = None


class Kind(Row):
    """One sort of plant or stone. `crown_m` and `tall_m` are those of size 1, `blocks_m` its trunk's radius. [m]"""

    key: Key
    name: Name
    form: Literal["tree", "boulder"]
    habit: Literal["upright", "leaning"]
    density_per_ha: Annotated[float, Field(ge=0, le=DENSEST_PER_HA)]
    size_min: Annotated[float, Field(gt=0, le=100)]
    size_max: Annotated[float, Field(gt=0, le=100)]
    crown_m: Annotated[float, Field(gt=0, le=50)]
    tall_m: Annotated[float, Field(gt=0, le=100)]
    blocks_m: Annotated[float, Field(ge=0, le=50)]
    colour: Colour

    @model_validator(mode="after")
    def _smallest_first(self) -> Kind:
        if self.size_min > self.size_max:
            words = f"smallest size must not be above the largest, not {self.size_min} and {self.size_max}"
            raise InvalidInput(words, "size_min")
        return self


class Mix(Row):
    """Collection "mixes": kinds that are sown together, from one seed."""

    name: Name
    seed: Annotated[int, Field(ge=0, lt=2**31)]
    kinds: Annotated[tuple[Kind, ...], Field(min_length=1, max_length=16)]


TractId = Annotated[str, StringConstraints(pattern=r"^[a-z0-9]{1,40}$")]


class TractPlace(Row):
    """Collection "tracts", by the tract's id: its name, and where on the layout its south-west corner lies. [m]

    A tract without such a row is no part of the world any more (or not yet): its ground is kept for the logbook.
    """

    name: Name
    position: Annotated[int, Field(ge=0, le=999)] = 0
    x: Annotated[float, Field(ge=-1e6, le=1e6)] = 0.0
    y: Annotated[float, Field(ge=-1e6, le=1e6)] = 0.0
    kind: Literal["open", "underground"] = "open"


class Join(Row):
    """Collection "joins": two tracts whose edges are one line, and over how far each was blended to it. [m]

    `side` is that of the first tract on which the second lies.
    """

    first: TractId
    second: TractId
    side: Literal["east", "north"]
    blend_m: Annotated[float, Field(ge=0, le=2_000)] = 40.0


class Thing(Row):
    """Collection "things": a placed piece or a start. x east, y north, `over_m` above the ground. [m, °]

    `tract` is where it stands; left out, the world's first.
    """

    sort: Literal["piece", "start"]
    kit: str | None = None
    name: Name
    x: Annotated[float, Field(ge=0, le=1e6)]
    y: Annotated[float, Field(ge=0, le=1e6)]
    over_m: Annotated[float, Field(ge=-100, le=10_000)] = 0.0
    turn_deg: Bearing = 0.0
    team: Annotated[int, Field(ge=1, le=8)] | None = None
    default: bool = False
    tract: TractId | None = None

    @model_validator(mode="after")
    def _fits_its_sort(self) -> Thing:
        if self.sort == "piece" and self.kit not in KIT:
            raise InvalidInput(f"kit must be one of {', '.join(KIT)}, not {self.kit!r}", "kit")
        if self.sort == "start" and self.kit is not None:
            raise InvalidInput(f"a start has no kit, not {self.kit!r}", "kit")
        if self.sort == "piece" and self.default:
            raise InvalidInput("only a start can be the default", "default")
        return self


Spot = tuple[Annotated[float, Field(ge=-1e5, le=1e6)], Annotated[float, Field(ge=-1e5, le=1e6)]]
"""x east and y north. [m]"""


class Limits(Row):
    """Collection "limits", key "world": no tool takes the ground past these. [m]"""

    lowest_m: Elevation = -12_000.0
    highest_m: Elevation = 12_000.0

    @model_validator(mode="after")
    def _lowest_first(self) -> Limits:
        if self.lowest_m >= self.highest_m:
            words = f"lowest_m must be below highest_m, not {self.lowest_m:g} and {self.highest_m:g}"
            raise InvalidInput(words, "lowest_m")
        return self


class Sheet(Row):
    """Collection "sheets": a set of ground edits over the base; the ground is the sum of those that are not hidden."""

    name: Name
    position: Annotated[int, Field(ge=0, le=63)] = 0
    weight: Annotated[float, Field(ge=0, le=1)] = 1.0
    hidden: bool = False
    locked: bool = False


class Plot(Row):
    """Collection "plots": a named polygon in a tract, the first when left out. [m]"""

    name: Name
    points: Annotated[tuple[Spot, ...], Field(min_length=3, max_length=500)]
    tract: TractId | None = None


class Level(Row):
    """Collection "levels", the level book: a remembered elevation."""

    name: Name
    elevation_m: Elevation


class Line(Row):
    """Collection "lines": a kept line of the section in a tract, the first when left out. [m]"""

    name: Name
    points: Annotated[tuple[Spot, ...], Field(min_length=2, max_length=200)]
    tract: TractId | None = None


class Symmetry(Row):
    """Collection "symmetry", key "world": mirrored across the line through (x, y) along the bearing, or turned about
    it so that `times` equal parts make the whole. [m, °]"""

    kind: Literal["off", "mirror", "turn"] = "off"
    x: Annotated[float, Field(ge=-1e6, le=1e6)] = 0.0
    y: Annotated[float, Field(ge=-1e6, le=1e6)] = 0.0
    bearing_deg: Bearing = 0.0
    times: Annotated[int, Field(ge=2, le=4)] = 2

    def images(self) -> list[Image]:
        """The copies that everything has, besides itself."""
        if self.kind == "mirror":
            return mirrored(self.x, self.y, self.bearing_deg)
        return turned(self.x, self.y, self.times) if self.kind == "turn" else []


class Landscape(Row):
    """One landform of a recipe: how much of the region it takes beside the others, the size of its patches, and its
    own settings where they differ from the first ones. [m]"""

    name: str
    weight: Annotated[float, Field(gt=0, le=1000)] = 1.0
    patch_m: Annotated[float, Field(ge=10, le=100_000)] = 600.0
    settings: dict[str, float] = Field(default_factory=dict)

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
    """What the weather does to made land: drops of rain for each square metre, then passes of frost."""

    drops_per_m2: Annotated[float, Field(ge=0, le=20)] = 0.0
    passes: Annotated[int, Field(ge=0, le=5_000)] = 0
    repose_deg: Annotated[float, Field(ge=1, le=80)] = 36.0


def check_box(box: tuple[float, float, float, float] | None) -> None:
    """Raises InvalidInput unless the smaller numbers of x0, y0, x1, y1 come first. [m]"""
    if box is not None and not (box[0] < box[2] and box[1] < box[3]):
        raise InvalidInput(f"box must be x0, y0, x1, y1 with the smaller number first, not {box}", "box")


class Recipe(Row):
    """Collection "recipes", by the key of the sheet that it made: land from a seed.

    base_m : level that it is made on; height_m : what the highest relief among the landscapes becomes (left out:
    their own); plot or box : where, the whole tract when left out; feather_m : how far it blends into the land around
    """

    seed: Annotated[int, Field(ge=0, lt=2**31)] = 1
    landscapes: Annotated[tuple[Landscape, ...], Field(min_length=1, max_length=12)]
    blend_m: Annotated[float, Field(ge=0, le=5_000)] = 120.0
    base_m: Elevation = 2.0
    height_m: Annotated[float, Field(gt=0, le=6_000)] | None = None
    plot: Key | None = None
    box: tuple[float, float, float, float] | None = None
    feather_m: Annotated[float, Field(ge=0, le=2_000)] = 40.0
    weathering: Weathering | None = None

    @model_validator(mode="after")
    def _one_place(self) -> Recipe:
        if self.plot is not None and self.box is not None:
            raise InvalidInput("a recipe's region is a plot or a box, not both", "box")
        check_box(self.box)
        return self

    @property
    def scale(self) -> float:
        """Of all heights."""
        tallest = max(landscape.values[LANDFORMS[landscape.name].relief] for landscape in self.landscapes)
        return 1.0 if self.height_m is None else self.height_m / tallest


BOOKS: dict[str, type[Plot] | type[Level] | type[Line]] = {"plots": Plot, "levels": Level, "lines": Line}
"""Collections of plain rows that are put and removed by their key: the next is a model and a line."""

COLLECTIONS: dict[str, type[Row]] = {
    "about": About,
    "water": Water,
    "light": Light,
    "covers": Cover,
    "mixes": Mix,
    "things": Thing,
    "limits": Limits,
    "sheets": Sheet,
    "symmetry": Symmetry,
    "recipes": Recipe,
    "icon": Icon,
    "tracts": TractPlace,
    "joins": Join,
    **BOOKS,
}


def parse_row(collection: str, key: str, body: str) -> Row:
    """A stored row as its model. Raises FormatError naming the row when it does not fit."""
    model = COLLECTIONS.get(collection)
    if model is None:
        raise FormatError(f"the stored collection {collection!r} is not known to this version")
    try:
        return model.model_validate_json(body)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise FormatError(f"the stored row {collection}/{key} does not fit: {place}: {first['msg']}") from error


def default_rows(name: str, sea_level_m: float, description: str = "") -> list[tuple[str, str, Row]]:
    """The rows of a new world: a base cover and three more, a mix of two kinds, an afternoon sun."""
    return [
        ("about", "world", About(name=name, description=description)),
        ("water", "sea", Water(sea_level_m=sea_level_m)),
        ("light", "sun", Light()),
        ("covers", "grass", Cover(name="Grass", colour="#9fa36c", position=0)),
        ("covers", "earth", Cover(name="Earth", colour="#8b7357", position=1)),
        ("covers", "path", Cover(name="Path", colour="#c9b48a", position=2)),
        ("covers", "rock", Cover(name="Rock", colour="#a39d92", position=3, rule=CoverRule(above_deg=38))),
        (
            "mixes",
            "mix",
            Mix(
                name="Trees and stones",
                seed=7,
                kinds=(
                    Kind(
                        key="tree",
                        name="Tree",
                        form="tree",
                        habit="upright",
                        density_per_ha=220,
                        size_min=1.0,
                        size_max=1.5,
                        crown_m=2.2,
                        tall_m=7.0,
                        blocks_m=0.25,
                        colour="#3f6b43",
                    ),
                    Kind(
                        key="boulder",
                        name="Boulder",
                        form="boulder",
                        habit="leaning",
                        density_per_ha=25,
                        size_min=0.6,
                        size_max=2.0,
                        crown_m=0.8,
                        tall_m=1.0,
                        blocks_m=0.7,
                        colour="#8b877c",
                    ),
                ),
            ),
        ),
    ]
