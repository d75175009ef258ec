"""The Growth stage's panel, the plants of a tract, and the settings of a mix's kinds."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Response
from pydantic import Field

from fernfield.core.errors import InvalidInput, named
from fernfield.core.growth.scatter import DENSEST_PER_HA
from fernfield.core.growth.tools import GROWTH_TOOLS
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import TheLand, TheWorld, keyed_json
from fernfield.web.kernel.windows import TheWindow
from fernfield.work.growth.rows import MIXES, Kind, Mix, mixes_of
from fernfield.work.growth.standing import standing_plants
from fernfield.work.kernel.commands import Command, patch
from fernfield.work.kernel.rows import Key

router = APIRouter(prefix="/api", tags=["growth"])

MOST_PLANT_POSTS = 2_048 * 2_048


class KindPatch(Command):
    """How a kind is sown; what is left out stays."""

    density_per_ha: Annotated[float | None, Field(ge=0, le=DENSEST_PER_HA)] = None
    size_min: Annotated[float | None, Field(gt=0, le=100)] = None
    size_max: Annotated[float | None, Field(gt=0, le=100)] = None


@router.patch("/worlds/{world}/mixes/{key}/kinds")
def patch_kinds(key: Key, kinds: dict[Key, KindPatch], world: TheWorld) -> dict[str, Any]:
    """Change how kinds of a mix are sown, by their keys; the others, and what is not said, stay."""
    with world.lock:
        mix = world.row(MIXES, key)
        known = {kind.key: kind for kind in mix.kinds}
        for name in kinds:
            named(known, "kind", name)
        said = {name: kind.model_dump(exclude_none=True) for name, kind in kinds.items()}
        changed = [{**kind.model_dump(), **said.get(kind.key, {})} for kind in mix.kinds]
        return keyed_json(key, world.edit(patch(MIXES, key, kinds=changed)))


@router.get("/tracts/{tract}/growth", response_class=Response)
@router.get("/lands/{tract}/growth", response_class=Response)
def growth(land: TheLand, window: TheWindow) -> Response:
    """Plants as little-endian float32: mix and kind numbers, x, y, z, size, turn, lean east, lean north."""
    if window.rows * window.cols > MOST_PLANT_POSTS:
        raise InvalidInput(f"at most {MOST_PLANT_POSTS} posts of growth can be asked for at once", "row1")
    world, seen = land
    mixes = mixes_of(world)
    keys = [key for key, _ in mixes]
    parts = []
    for standing in standing_plants(world, seen, window):
        p = standing.plants
        mix = keys.index(standing.mix)
        head = np.full((len(p), 2), [mix, mixes[mix][1].kinds.index(standing.kind)], np.float32)
        body = np.stack([p.x, p.y, standing.z, p.size, p.turn, standing.lean_east, standing.lean_north], axis=1)
        parts.append(np.concatenate([head, body], axis=1))
    rows = np.concatenate(parts) if parts else np.zeros((0, 9), np.float32)
    return Response(
        rows.astype("<f4").tobytes(), media_type="application/octet-stream", headers={"X-Shape": f"{len(rows)},9"}
    )


def _context(asked: Asked) -> dict[str, Any]:
    return {"tools": GROWTH_TOOLS.values(), "mixes": mixes_of(asked.world), "Mix": Mix, "Kind": Kind}


PANEL = Panel("growth", _context)
