"""The Growth stage's panel, the plants of a tract, the shapes of kinds, and the settings of a mix's kinds."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
from fastapi import File, Form, Query, Response, UploadFile
from pydantic import create_model
from typing_extensions import TypedDict

from fernfield.core.checks.growth import SEEN_PX, seen_switches
from fernfield.core.errors import InvalidInput, named
from fernfield.core.growth.shapes import VARIANTS
from fernfield.core.growth.spacing import DENSEST_PER_HA
from fernfield.core.growth.tools import GROWTH_TOOLS
from fernfield.formats.mesh import check_size
from fernfield.formats.model import MOST_BYTES
from fernfield.store.worlds import ModelRow
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import ByLand, Keyed, TheLand, TheStudio, TheTract, TheWorld, keyed_json
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.uploads import Named, upload
from fernfield.web.kernel.windows import TheWindow
from fernfield.work.asking.conditions import whats_told
from fernfield.work.bringing.models import add_model
from fernfield.work.growth.areas import GrowArea, grow_area
from fernfield.work.growth.findings import MendPlants, mend_plants
from fernfield.work.growth.listing import MOST_LISTED, Listed, MixFigures, figures_of, listed
from fernfield.work.growth.load import TARGET, Gauged, Target, gauge, switch_of
from fernfield.work.growth.removing import remove_kind, remove_mix
from fernfield.work.growth.rows import KINDS, MIXES, Kind, Mix, Part, Variant
from fernfield.work.growth.shaping import shape_of
from fernfield.work.growth.standing import standing_plants
from fernfield.work.growth.swards import SWARDS, Sward, sward_bytes
from fernfield.work.growth.touching import (
    ChangePlants,
    DropPlants,
    PlantChange,
    Planted,
    PutPlants,
    RedressPlants,
    SettlePlants,
    change_plants,
    drop_plants,
    put_plants,
    redress_plants,
    settle_plants,
)
from fernfield.work.kernel.commands import Command, patch
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.plots.areas import said_in_world

router = Router(prefix="/api", tags=["growth"])

MOST_PLANT_POSTS = 1_025 * 1_025
"""Posts whose plants may be asked for at once: at the densest a million plants."""
MOST_LISTED_POSTS = 2_049 * 2_049
"""Posts whose plants may be gone through for a list."""
COLUMNS = 11
Metres = Annotated[float, Query(ge=-1e6, le=1e6)]


if TYPE_CHECKING:

    class PartPatch(Command):
        pass

else:
    PartPatch = create_model(
        "PartPatch", __base__=Command, __doc__="How a kind is sown; what is left out stays.",
        **{
            name: (Annotated[field.annotation, *field.metadata] | None, None)
            for name, field in Part.model_fields.items() if name != "kind"
        },
    )  # fmt: skip


@router.patch("/worlds/{world}/mixes/{key}/kinds")
def patch_kinds(key: Key, kinds: dict[Key, PartPatch], world: TheWorld) -> Keyed:
    """Change how kinds of a mix are sown, by their keys; the others, and what is not said, stay."""
    with world.lock:
        mix = world.row(MIXES, key)
        known = {part.kind: part for part in mix.kinds}
        for name in kinds:
            named(known, "kind", name)
        said = {name: kind.model_dump(mode="json", exclude_unset=True) for name, kind in kinds.items()}
        changed = [{**part.model_dump(mode="json"), **said.get(part.kind, {})} for part in mix.kinds]
        return keyed_json(key, world.edit(patch(MIXES, key, kinds=changed)))


@router.patch("/worlds/{world}/mixes/{key}/kinds/{kind}")
def patch_kind(key: Key, kind: Key, said: PartPatch, world: TheWorld) -> Keyed:
    """Change how one kind of a mix is sown; what is not said stays."""
    return patch_kinds(key, {kind: said}, world)


@router.delete("/worlds/{world}/mixes/{key}", tags=["mixes"])
def delete_mix(key: Key, world: TheWorld) -> Keyed:
    """Take a mix away, with all that is sown of it."""
    return keyed_json(key, remove_mix(world, key))


@router.delete("/worlds/{world}/kinds/{key}", tags=["kinds"])
def delete_kind(key: Key, world: TheWorld) -> Keyed:
    """Take a kind away, and its place in every mix."""
    return keyed_json(key, remove_kind(world, key))


@router.get("/worlds/{world}/kinds/{key}/shape", response_class=Response)
def shape(
    key: Key, world: TheWorld, detail: Annotated[int, Query(ge=0, le=2)] = 0, variant: Variant | None = None
) -> Response:
    """The triangles of a kind at size 1, three corners each, as little-endian float32: x, y, z up, normal, colour (0 to
    1), how much of its kind's tint it takes on, how far it sways. `detail` 0 is near the eye, 2 a card."""
    kind = world.row(KINDS, key)
    corners = shape_of(world, kind if variant is None else kind.model_copy(update={"variant": variant}), detail)
    headers = {"X-Shape": ",".join(map(str, corners.shape)), "cache-control": "max-age=60"}
    return Response(corners.astype("<f4").tobytes(), media_type="application/octet-stream", headers=headers)


class SwitchesTold(TypedDict):
    """Heights on the screen by the name of what changes [px], the most at which that is not seen, and what is."""

    sizes: dict[str, float]
    most: dict[str, float]
    seen: list[str]


@router.get("/worlds/{world}/kinds/{key}/switches")
def switches(key: Key, world: TheWorld) -> SwitchesTold:
    """How tall a kind is, on a screen of 1,080 pixels, where its detail changes [px]; which of the changes are seen."""
    switch = switch_of(world.row(KINDS, key))
    return {"sizes": switch.sizes, "most": SEEN_PX, "seen": seen_switches(switch)}


@router.get("/worlds/{world}/models")
def models(world: TheWorld) -> Annotated[list[dict[str, Any]], list[ModelRow]]:
    """The shapes that were brought: their triangles, height and radius. [m]"""
    return [asdict(row) for row in world.store.models(world.id)]


@router.post("/worlds/{world}/models", status_code=201)
def add_shape(
    world: TheWorld, studio: TheStudio, file: Annotated[UploadFile, File()], name: Annotated[str, Form()]
) -> Annotated[dict[str, Any], ModelRow]:
    """Bring a shape: glTF 2.0, binary or text, in one file, up to 20,000 triangles; y up, in metres."""
    named = Named(name=name)
    with upload(studio, file) as path:
        check_size(path, MOST_BYTES)
        return asdict(add_model(world, named.name, path.read_bytes()))


@router.get("/worlds/{world}/mixes/{key}/figures")
def figures(key: Key, world: TheWorld) -> MixFigures:
    """What a mix comes to on 36 level hectares that are wholly sown: how many of each kind, what of its density
    there is room for, and how its plants stand to each other (Clark and Evans 1954)."""
    return figures_of(world, key)


@router.get("/tracts/{tract}/growth", response_class=Response)
@router.get("/lands/{tract}/growth", response_class=Response)
def growth(land: TheLand, window: TheWindow) -> Response:
    """Plants as little-endian float32: the number of the kind in the list of kinds and of its variant, x, y, z, height,
    width (factors), turn, lean east, lean north, tint."""
    if window.rows * window.cols > MOST_PLANT_POSTS:
        raise InvalidInput(f"at most {MOST_PLANT_POSTS} posts of growth can be asked for at once", "row1")
    world, seen = land
    numbers = {key: number for number, (key, _) in enumerate(world.each(KINDS))}
    parts = []
    for found in standing_plants(world, seen, window):
        p = found.plants
        kind = np.full(len(p), numbers[found.part.kind], np.float32)
        # Single plants may look otherwise than their kind.
        variant = np.where(p.variant == 0, VARIANTS.index(found.kind.variant), p.variant)
        columns = (
            kind,
            variant,
            p.x,
            p.y,
            found.z,
            p.height,
            p.width,
            p.turn,
            found.lean_east,
            found.lean_north,
            p.tint,
        )
        parts.append(np.stack([column.astype(np.float32) for column in columns], axis=1))
    rows = np.concatenate(parts) if parts else np.zeros((0, COLUMNS), np.float32)
    return Response(
        rows.astype("<f4").tobytes(), media_type="application/octet-stream",
        headers={"X-Shape": f"{len(rows)},{COLUMNS}"},
    )  # fmt: skip


@router.get("/tracts/{tract}/swards", response_class=Response)
@router.get("/lands/{tract}/swards", response_class=Response)
def sward_planes(land: TheLand, window: TheWindow, step: Annotated[int, Query(ge=1, le=1024)] = 1) -> Response:
    """The density of every ground cover at every `step`-th post: a plane of bytes for each, 255 its full density.

    `X-Swards` has their keys in this order.
    """
    world, seen = land
    posts = -(-window.rows // step) * -(-window.cols // step)
    if posts > MOST_PLANT_POSTS or window.rows * window.cols > MOST_LISTED_POSTS:
        words = f"at most {MOST_PLANT_POSTS} posts of ground cover, of {MOST_LISTED_POSTS}, can be asked for at once"
        raise InvalidInput(words, "row1")
    planes = sward_bytes(world, seen, window, step)
    headers = {"X-Shape": ",".join(map(str, planes.shape)), "X-Swards": ",".join(key for key, _ in world.each(SWARDS))}
    return Response(planes.tobytes(), media_type="application/octet-stream", headers=headers)


@router.get("/tracts/{tract}/plants")
@router.get("/lands/{tract}/plants")
def plants(
    land: TheLand, x0: Metres, y0: Metres, x1: Metres, y1: Metres,
    cursor: Annotated[int, Query(ge=0)] = 0, limit: Annotated[int, Query(ge=1, le=MOST_LISTED)] = MOST_LISTED,
) -> Listed:  # fmt: skip
    """The plants with x0 <= x < x1 and y0 <= y < y1 in a fixed order, from number `cursor` on; go on at `next`."""
    if x1 < x0 or y1 < y0:
        raise InvalidInput(f"x0, y0 come before x1, y1, not {x0:g}, {y0:g} and {x1:g}, {y1:g}", "x1")
    window = land[1].clip(land[1].grid.window_of(x0, y0, x1, y1))
    if window.rows * window.cols > MOST_LISTED_POSTS:
        words = (
            f"the plants of at most {MOST_LISTED_POSTS} posts can be listed at once, not of {window.rows * window.cols}"
        )
        raise InvalidInput(words, "x1")
    return listed(*land, (x0, y0, x1, y1), cursor, limit)


@router.post("/tracts/{tract}/plants", status_code=201)
@router.post("/lands/{tract}/plants", status_code=201)
def put(command: PutPlants, tract: TheTract, by_land: ByLand) -> Planted:
    """Put plants by hand; their ids come back in the order of the command."""
    place = tract[0].place_of(tract[1].row.id)
    return put_plants(tract[0], (0.0, 0.0) if by_land else (place.x, place.y), command)


@router.patch("/tracts/{tract}/plants")
@router.patch("/lands/{tract}/plants")
def change(command: ChangePlants, tract: TheTract) -> Planted:
    """Move, turn, size, raise plants, or copies of them (whose ids come back)."""
    return change_plants(tract[0], command)


@router.delete("/tracts/{tract}/plants")
@router.delete("/lands/{tract}/plants")
def drop(command: DropPlants, tract: TheTract) -> Edited:
    """Take plants away."""
    return drop_plants(tract[0], command).public()


@router.post("/tracts/{tract}/plants/settle")
@router.post("/lands/{tract}/plants/settle")
def settle(command: SettlePlants, tract: TheTract, by_land: ByLand) -> Edited:
    """Put the feet of plants that were touched back on the ground."""
    return settle_plants(tract[0], _scope(*tract, by_land), command).public()


@router.post("/tracts/{tract}/plants/redress")
@router.post("/lands/{tract}/plants/redress")
def redress(command: RedressPlants, tract: TheTract, by_land: ByLand) -> Edited:
    """Give plants that were touched back to their mix."""
    return redress_plants(tract[0], _scope(*tract, by_land), command).public()


def _scope(world: OpenWorld, tract: Tract, by_land: bool) -> list[str]:
    """The tracts that are meant: one, or all that are seen with it."""
    return list(world.country(tract.row.id).tract_ids) if by_land else [tract.row.id]


@router.post("/tracts/{tract}/plants/mend")
@router.post("/lands/{tract}/plants/mend")
def mend(command: MendPlants, tract: TheTract) -> Edited:
    """Put right all plants of a tract that have a trouble."""
    return mend_plants(*tract, command).public()


@router.post("/tracts/{tract}/growth")
@router.post("/lands/{tract}/growth")
def grow(command: GrowArea, tract: TheTract, by_land: ByLand) -> Edited:
    """Sow a mix all over an area, or clear it."""
    at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
    return grow_area(tract[0], at, own).public()


@router.get("/tracts/{tract}/load")
@router.get("/lands/{tract}/load")
def load(
    land: TheLand, x: Metres | None = None, y: Metres | None = None, mix: Key | None = None,
    density_per_ha: Annotated[float | None, Query(ge=0, le=DENSEST_PER_HA)] = None,
) -> Gauged:  # fmt: skip
    """What the growth of a land costs to draw, all of it or from a spot, beside the target machine; `mix` and
    `density_per_ha`: as if that mix were so dense."""
    if (x is None) != (y is None):
        raise InvalidInput("x and y go together", "x")
    world, seen = land
    if x is not None and y is not None:
        seen.need(x, y, "the spot")
    changed = {}
    if mix is not None and density_per_ha is not None:
        changed[mix] = world.row(MIXES, mix).model_copy(update={"density_per_ha": density_per_ha})
    return gauge(world, seen, None if x is None or y is None else (x, y), changed)


def _context(asked: Asked) -> dict[str, Any]:
    return {
        "tools": GROWTH_TOOLS.values(), "pictures": [], "Mix": Mix, "Kind": Kind, "Part": Part, "Sward": Sward,
        "told": whats_told(), "PlantChange": PlantChange, "GrowArea": GrowArea, "Target": Target,
        "target": asked.world.only(TARGET), "brought": asked.world.store.models(asked.world.id),
    }  # fmt: skip


PANEL = Panel("growth", _context, script=True)
