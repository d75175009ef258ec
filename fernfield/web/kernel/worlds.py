"""A world as scripts and pages are told of it."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict
from typing_extensions import TypedDict

from fernfield.work.kernel.rows import ONLY
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT
from fernfield.work.studio import Studio
from fernfield.work.water.rows import WATER, sea_level
from fernfield.work.worlds.rows import ABOUT, ICON


class TractTold(TypedDict):
    """A tract: where it lies in the world [m], and its posts."""

    id: str
    name: str
    x: float
    y: float
    rows: int
    cols: int
    spacing_m: float


class UnreadTold(TypedDict):
    """A stored row that this version cannot read, and why."""

    collection: str
    key: str
    why: str


class WorldTold(BaseModel):
    """A world. The rows of every collection that pages are told of stand beside these fields, by its name."""

    model_config = ConfigDict(extra="allow")
    id: str
    name: str
    revision: int
    changed_at: str
    description: str
    icon: str | None
    sea_level_m: float
    tide_low_m: float | None
    tide_high_m: float | None
    sun_bearing_deg: float
    sun_height_deg: float
    can_undo: bool
    can_redo: bool
    tracts: list[TractTold]
    unread: list[UnreadTold]


AWorld = Annotated[dict[str, Any], WorldTold]


def world_json(world: OpenWorld, studio: Studio) -> dict[str, Any]:
    """A world as the API shows it: what it is called, its tracts, and the rows of every collection that is told."""
    about, sun = world.only(ABOUT), world.only(LIGHT)
    rows: dict[str, Any] = {}
    for collection in world.house.collections.values():
        if collection.told:
            only = collection.only is not None
            rows[collection.name] = world.only(collection).model_dump(mode="json") if only else world.told(collection)
    return {
        "id": world.id,
        "name": about.name,
        "revision": world.revision,
        "changed_at": studio.changed_at(world.id),
        "description": about.description,
        "icon": f"/api/worlds/{world.id}/icon.png" if world.get(ICON, ONLY) is not None else None,
        "sea_level_m": sea_level(world),
        "tide_low_m": world.only(WATER).tide_low_m,
        "tide_high_m": world.only(WATER).tide_high_m,
        "sun_bearing_deg": sun.sun_bearing_deg,
        "sun_height_deg": sun.sun_height_deg,
        "can_undo": world.can_undo,
        "can_redo": world.can_redo,
        "tracts": [
            {
                "id": tract.row.id,
                **world.place_of(tract.row.id).model_dump(exclude={"position"}),
                "rows": tract.grid.rows,
                "cols": tract.grid.cols,
                "spacing_m": tract.grid.spacing,
            }
            for tract in world.tracts.values()
        ],
        "unread": [
            {"collection": collection, "key": key, "why": unread.why}
            for (collection, key), unread in world.unread.items()
        ],
        **rows,
    }


def card_of(world: OpenWorld, studio: Studio) -> dict[str, Any]:
    """A world as its card shows it: with its extent, and the tract that is entered."""
    grid = world.first_tract.grid
    return {
        **world_json(world, studio), "width_m": grid.width, "depth_m": grid.depth, "spacing_m": grid.spacing,
        "tract": world.first_tract.row.id,
    }  # fmt: skip
