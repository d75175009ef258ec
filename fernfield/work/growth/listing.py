"""Plants as scripts read them, and what a mix comes to in figures."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from typing_extensions import TypedDict

from fernfield.core.grid import FloatArray, Grid
from fernfield.core.growth.figures import neighbours, standing_words
from fernfield.core.growth.scatter import Plants, scatter
from fernfield.core.growth.shapes import VARIANTS
from fernfield.core.growth.spacing import reached
from fernfield.core.noise import Octaves, fractal, plain_spots
from fernfield.work.asking.fields import OCTAVES, PERSISTENCE
from fernfield.work.growth.rows import MIXES, Mix, Part
from fernfield.work.growth.sowing import clump_seed, clumped
from fernfield.work.growth.standing import sort_of, standing_plants
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld

MOST_LISTED = 10_000
PROOF_M = 600


def id_of(mix: str, kind: str, block: Any, number: int, put: int = 0) -> str:
    """What a plant is called as long as it is there: a sown one by its place in the pattern of its mix, one that was
    put by hand by its number."""
    return f"h{int(put):08x}" if put else f"{mix}.{kind}.{int(block[0])}.{int(block[1])}.{int(number)}"


class PlantTold(TypedDict):
    """A plant as the API lists it. [m, °]"""

    id: str
    mix: str
    kind: str
    x: float
    y: float
    z: float
    size_height: float
    size_width: float
    turn_deg: float
    lean_deg: float
    variant: str
    by_hand: bool


class Listed(TypedDict):
    """Some of the plants of a box, how many it has, and the number to go on at."""

    plants: list[PlantTold]
    count: int
    next: int | None


def listed(world: OpenWorld, land: Land, box: tuple[float, float, float, float], cursor: int, limit: int) -> Listed:
    """Plants in a box of a land's metres, in the order of mixes, kinds and their places."""
    x0, y0, x1, y1 = box
    window = land.clip(land.grid.window_of(x0, y0, x1, y1))
    out: list[PlantTold] = []
    count = 0
    for found in standing_plants(world, land, window):
        p = found.plants
        inside = np.flatnonzero((p.x >= x0) & (p.x < x1) & (p.y >= y0) & (p.y < y1))
        # Their pattern's order, whichever window they were found in.
        inside = inside[np.lexsort((p.put[inside], p.number[inside], p.block[inside, 0], p.block[inside, 1]))]
        first = max(0, cursor - count)
        for i in inside[first : first + limit - len(out)]:
            lean = math.degrees(math.asin(min(1.0, math.hypot(found.lean_east[i], found.lean_north[i]))))
            out.append({
                "id": id_of(found.mix, found.part.kind, p.block[i], p.number[i], p.put[i]), "mix": found.mix,
                "kind": found.part.kind, "x": round(float(p.x[i]), 3), "y": round(float(p.y[i]), 3),
                "z": round(float(found.z[i]), 3), "size_height": round(float(p.height[i]), 4),
                "size_width": round(float(p.width[i]), 4), "turn_deg": round(float(p.turn[i]), 2),
                "lean_deg": round(lean, 2), "variant": VARIANTS[p.variant[i]], "by_hand": bool(p.by_hand[i]),
            })  # fmt: skip
        count += len(inside)
    end = cursor + len(out)
    return {"plants": out, "count": count, "next": end if end < count else None}


def _proof(mix: Mix) -> list[Plants | None]:
    """The plants of a mix on level ground that is wholly sown and asks for nothing: in the clumps in which they stand
    on the land."""
    grid = Grid(PROOF_M + 1, PROOF_M + 1, 1.0)
    spots = plain_spots(0.0, 0.0, 1.0)

    def share(part: Part, number: int) -> FloatArray:
        if not part.clump:
            return np.ones((grid.rows, grid.cols), np.float32)
        octaves = Octaves(part.clump_m, OCTAVES, PERSISTENCE, clump_seed(mix, number))
        return clumped(fractal((grid.rows, grid.cols), spots, octaves, 1.0), part.clump)

    shares = [share(part, number) if mix.per_ha(part) > 0 else None for number, part in enumerate(mix.kinds)]
    return scatter(mix.pattern, [sort_of(part) for part in mix.kinds], shares, grid.window, grid, grid.window)


def square_of(part: Part) -> float:
    """The side of the squares in which it shows whether a kind stands in clumps. [m]"""
    return float(np.clip(part.clump_m / 2, 5, PROOF_M / 6)) if part.clump else PROOF_M / 20


class KindFigures(TypedDict):
    """A kind in a mix: how many stand on a hectare, what of that there is room for, and how they stand to each other:
    by Clark and Evans' index, and in words."""

    kind: str
    per_ha: float
    reached_per_ha: float
    room: float
    clark_evans: float | None
    stands: str


class MixFigures(TypedDict):
    """What a mix comes to where it is wholly sown."""

    density_per_ha: float
    kinds: list[KindFigures]
    words: str


def figures_of(world: OpenWorld, key: str) -> MixFigures:
    """What a mix comes to where it is wholly sown. Raises NotFound."""
    mix = world.row(MIXES, key)
    room = reached(mix.pattern)
    kinds: list[KindFigures] = []
    for part, share, found in zip(mix.kinds, room, _proof(mix), strict=True):
        wanted = mix.per_ha(part)
        stands = None if found is None else neighbours(found.x, found.y, PROOF_M, PROOF_M)
        kinds.append({
            "kind": part.kind, "per_ha": round(wanted, 2),
            "reached_per_ha": round(wanted * share, 2),
            "room": round(share, 4),
            "clark_evans": None if stands is None else round(stands.index, 3),
            "stands": "" if found is None else standing_words(found.x, found.y, PROOF_M, PROOF_M, square_of(part)),
        })  # fmt: skip
    words = "a density of 0: nothing of this mix stands" if mix.density_per_ha == 0 else ""
    return {"density_per_ha": mix.density_per_ha, "kinds": kinds, "words": words}
