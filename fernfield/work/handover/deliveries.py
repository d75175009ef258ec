"""Deliveries: named sets of choices of what is handed over, and how. Some come with the application."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import Field, model_validator

from fernfield.work.kernel.rows import Collection, Elevation, Name, Row, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

FormatKey = Literal[
    "heights_png", "heights_tif16", "heights_tif32", "heights_asc", "heights_raw", "heights_npy", "covers_png",
    "covers_packed", "covers_index", "covers_eight", "water_tif32", "water_png", "flow_png", "light_png", "land_glb",
    "land_obj", "land_stl", "passable_png", "walkable_glb", "blocks_glb", "growth_csv", "growth_geojson",
    "growth_parquet", "sky_png", "rows_json",
]  # fmt: skip
"""What each writes: `work.delivery.FORMATS`."""
Chunk = Literal[0, 65, 129, 257, 513, 1025, 2049, 4097]
Step = Literal[1, 2, 4, 8, 16]
MustBeEmpty = Literal["nothing", "grave", "all"]


class Delivery(Row):
    """Collection "deliveries": what is handed over, and how.

    all_as_it_is : with all that the package of a world has had from the beginning
    formats : further files; tracts : of these alone, of all when none is named
    chunk : posts along a side of a piece of land, which shares its edge posts with its neighbours; 0: each tract whole
    step : every so-manieth post
    lowest_m, highest_m : what 16 bits reach from and to; each land's own range when left out [m]
    up : which axis points up in OBJ and STL; glTF's is always y
    must_be_empty : findings that there may not be
    keep : so many of its packages are kept, the newest
    """

    name: Annotated[Name, Say("Name")]
    all_as_it_is: Annotated[bool, Say("All as it is")] = False
    formats: Annotated[tuple[FormatKey, ...], Field(max_length=40), UNASKED] = ()
    tracts: Annotated[tuple[TractId, ...], Field(max_length=200), UNASKED] = ()
    chunk: Annotated[
        Chunk,
        Say(
            "Cut into pieces",
            called={
                "0": "no: each tract whole",
                "65": "of 65 posts a side",
                "129": "of 129 posts",
                "257": "of 257 posts",
                "513": "of 513 posts",
                "1025": "of 1,025 posts",
                "2049": "of 2,049 posts",
                "4097": "of 4,097 posts",
            },
        ),
    ] = 0
    step: Annotated[
        Step,
        Say(
            "Posts",
            called={
                "1": "every one",
                "2": "every 2nd",
                "4": "every 4th",
                "8": "every 8th",
                "16": "every 16th",
            },
        ),
    ] = 1
    lowest_m: Annotated[Elevation | None, Say("16 bits from", left_out="the land's lowest")] = None
    highest_m: Annotated[Elevation | None, Say("to", left_out="the land's highest")] = None
    up: Annotated[Literal["z", "y"], Say("Up in OBJ and STL", called={"z": "z", "y": "y"})] = "z"
    must_be_empty: Annotated[
        MustBeEmpty,
        Say(
            "Findings",
            called={
                "nothing": "made whatever is found",
                "grave": "only without grave ones",
                "all": "only without any",
            },
        ),
    ] = "nothing"

    keep: Annotated[Annotated[int, Field(ge=1, le=50)], Say("Packages kept")] = 5

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if (self.lowest_m is None) != (self.highest_m is None):
            raise ValueError("a range has both a lowest and a highest elevation, or neither")
        if self.lowest_m is not None and self.highest_m is not None and self.lowest_m >= self.highest_m:
            raise ValueError(f"the highest elevation must be above the lowest, {self.lowest_m:g}")
        if not self.formats and not self.all_as_it_is:
            raise ValueError("a delivery holds at least one format, or all as it is")
        return self


SHIPPED: dict[str, Delivery] = {
    "all": Delivery(name="All as it is", all_as_it_is=True),
    "engine": Delivery(
        name="Square chunks for an engine",
        formats=("heights_raw", "covers_packed", "land_glb", "blocks_glb", "rows_json"),
        chunk=513,
    ),
    "modelling": Delivery(name="Surfaces for modelling", formats=("land_glb", "land_obj"), step=2),
    "server": Delivery(name="Figures for a server", formats=("heights_npy", "passable_png", "rows_json")),
    "survey": Delivery(name="Grids for a map", formats=("heights_tif32", "heights_asc")),
    "print": Delivery(name="A body to print", formats=("land_stl",), step=4),
}  # fmt: skip


def _shown(world: OpenWorld, key: str, row: Delivery) -> dict[str, Any]:
    return {"key": key, **row.model_dump(mode="json"), "shipped": False}


DELIVERIES: Collection[Delivery] = Collection(
    "deliveries", Delivery, "delivery", names_tracts=True, stays=True, most=100, listed_by_room=True, shown=_shown,
    shipped={key: one.name for key, one in SHIPPED.items()},
)  # fmt: skip


def deliveries_of(world: OpenWorld) -> dict[str, Delivery]:
    """Those that come with the application, then the world's own. Hold the lock."""
    return {**SHIPPED, **dict(world.each(DELIVERIES))}
