"""Plants as they stand: where each comes to stand, how it leans, and what of it blocks a walker."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import FloatArray, Grid, Window, bilinear_many
from fernfield.core.growth.scatter import Plants, Sort, scatter
from fernfield.core.light.relief import gradients
from fernfield.core.travel.walker import Obstacle
from fernfield.work.growth.hand import Hand, codes_of, hand_of
from fernfield.work.growth.rows import Kind, Mix, Part, kind_of, mixes_of
from fernfield.work.growth.sowing import growth_layer, shares_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Canopy
from fernfield.work.kernel.world import OpenWorld


def sort_of(part: Part) -> Sort:
    """What the plants of a part are like, as the core knows it."""
    return Sort(
        part.size_min, part.size_max, part.spread, part.width_min, part.width_max, part.turn_deg, part.turn_around_deg,
        part.tilt_deg, part.tint, part.sink_min_m, part.sink_max_m,
    )  # fmt: skip


def sown_of(world: OpenWorld, land: Land, key: str, mix: Mix, part: Window) -> list[Plants | None]:
    """The sown plants of a mix on the cells of `part`, for each of its kinds, as if no hand had touched one; None where
    none stands.

    They stand where they do in the world, whichever tract they are seen from.
    """
    part = land.clip(part)
    nothing: list[Plants | None] = [None] * len(mix.kinds)
    if part.empty or not mix.kinds:
        return nothing
    far = max((one.near_m for one in mix.kinds if one.near is not None), default=0.0)
    wanted = land.clip(part.pad(math.ceil(far / land.grid.spacing))) if far else part
    wide = land.clip(wanted.pad(1))
    if land.blank(growth_layer(key), wide):
        return nothing
    shares = shares_of(world, land, key, mix, wide)
    sorts = [sort_of(one) for one in mix.kinds]
    found = scatter(mix.pattern, sorts, shares, wide, land.grid, wanted, land.bounds, land.origin)
    if far:
        found = _beside(mix, found)
        found = [None if one is None else _on(land, one, part) for one in found]
    if len(land.parts) > 1:
        found = [None if one is None else one.those(land.holds_each(one.x, one.y)) for one in found]
    # Nothing that was sown grows where something stands.
    clear = world.house.given.stands_clear
    found = [None if one is None or not len(one) else one.those(clear(world, land, one.x, one.y)) for one in found]
    return [one if one is not None and len(one) else None for one in found]


def _beside(mix: Mix, found: list[Plants | None]) -> list[Plants | None]:
    """Without those that want another kind near them and have none."""
    at = {part.kind: number for number, part in enumerate(mix.kinds)}
    for number, part in enumerate(mix.kinds):
        own = found[number]
        if part.near is None or own is None:
            continue
        other = found[at[part.near]] if part.near in at else None
        if other is None:
            found[number] = None
            continue
        from scipy.spatial import cKDTree  # heavy: imported where it is used

        tree = cKDTree(np.stack([other.x, other.y], axis=1))
        away, _ = tree.query(np.stack([own.x, own.y], axis=1), distance_upper_bound=part.near_m)
        found[number] = own.those(np.isfinite(away))
    return found


def _on(land: Land, plants: Plants, part: Window) -> Plants:
    """Those on the cells of the posts of `part`."""
    bounds, grid = land.bounds, land.grid
    inner = part.meet(Window(bounds.row0, bounds.col0, bounds.row1 - 1, bounds.col1 - 1))
    x, y = plants.x, plants.y
    return plants.those(
        (x >= grid.x_of(inner.col0)) & (x < grid.x_of(inner.col1))
        & (y >= grid.y_of(inner.row1)) & (y < grid.y_of(inner.row0))
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class StandingPlants:
    """Plants of one kind with their feet on the ground: z [m], and the way "up" leans, east and north."""

    mix: str
    part: Part
    kind: Kind
    plants: Plants
    z: FloatArray
    lean_east: FloatArray
    lean_north: FloatArray


@dataclass(frozen=True, slots=True)
class Bed:
    """Plants of a part of a land, by mix and kind, and the ground under them: a window of it on a grid. [m]"""

    sown: list[tuple[str, Part, Kind, Plants]]
    heights: FloatArray
    window: Window
    grid: Grid


def plants_of(world: OpenWorld, land: Land, key: str, mix: Mix, part: Window) -> list[Plants | None]:
    """The plants of a mix on the cells of `part`, for each of its kinds, with what a hand has done to them."""
    hand = hand_of(world)
    found = sown_of(world, land, key, mix, part)
    if not len(hand.plants):
        return found
    out: list[Plants | None] = []
    for one, sown in zip(mix.kinds, found, strict=True):
        name = (key, one.kind)
        touched = hand.codes(name)
        if sown is not None and len(touched):
            codes = codes_of(sown.block[:, 0], sown.block[:, 1], sown.number)
            sown = sown.those(~np.isin(codes, touched))
        own = _by_hand(hand, land, name, part)
        every = own if sown is None else sown if own is None else sown.and_(own)
        out.append(every if every is not None and len(every) else None)
    return out


def _by_hand(hand: Hand, land: Land, name: tuple[str, str], part: Window) -> Plants | None:
    """Those of a mix and kind that a hand has touched, on the cells of `part`."""
    if name not in hand.names:
        return None
    own = np.flatnonzero((hand.plants["name"] == hand.names.index(name)) & ~hand.plants["gone"])
    found = None
    for piece in land.parts:
        if piece.tract.row.id not in hand.tracts:
            continue
        records = hand.plants[own[hand.tract[own] == hand.tracts.index(piece.tract.row.id)]]
        x, y = (records["x"] + piece.x).astype(np.float32), (records["y"] + piece.y).astype(np.float32)
        plants = Plants(
            x, y, records["height"], records["width"], records["turn"], records["tilt"], records["tilt_to"],
            records["tint"], -records["over"], np.stack([records["i"], records["j"]], axis=1), records["number"],
            np.ones(len(records), bool), records["id"], records["variant"],
        )  # fmt: skip
        plants = _on(land, plants, land.clip(part))
        found = plants if found is None else found.and_(plants)
    return found


def grown(world: OpenWorld, land: Land, part: Window) -> Iterator[tuple[str, Part, Kind, Plants]]:
    """The plants of every kind of every mix on the cells of `part`; those that a hand has touched are there even when
    their mix has no place for their kind any more."""
    left = set(hand_of(world).names)
    for key, mix in mixes_of(world):
        for one, plants in zip(mix.kinds, plants_of(world, land, key, mix, part), strict=True):
            left.discard((key, one.kind))
            kind = kind_of(world, one)
            if plants is not None and kind is not None:
                yield key, one, kind, plants
    for key, name in sorted(left):
        one = Part(kind=name)
        plants, kind = _by_hand(hand_of(world), land, (key, name), part), kind_of(world, one)
        if plants is not None and len(plants) and kind is not None:
            yield key, one, kind, plants


def widest_crown(world: OpenWorld) -> float:
    """The largest radius of a crown that can stand somewhere; 0 where there are no kinds. [m]"""
    hand = hand_of(world)
    crowns = [
        kind.crown_m * one.size_max * one.width_max
        for _, mix in mixes_of(world) for one in mix.kinds if (kind := kind_of(world, one)) is not None
    ]  # fmt: skip
    for at, (_, name) in enumerate(hand.names):
        kind = kind_of(world, Part(kind=name))
        widths = hand.plants["width"][hand.plants["name"] == at]
        if kind is not None and len(widths):
            crowns.append(kind.crown_m * float(widths.max()))
    return max(crowns, default=0.0)


def bed_of(world: OpenWorld, land: Land, part: Window) -> Bed | None:
    """The plants on the cells of `part`, and the ground as it is now; None where nothing grows."""
    part = land.clip(part)
    if part.empty:
        return None
    with world.lock:
        sown = list(grown(world, land, part))
        wide = land.clip(part.pad(2))
        return Bed(sown, land.read(HEIGHT, wide), wide, land.grid) if sown else None


def stood(bed: Bed | None) -> list[StandingPlants]:
    """Plants with their feet on the ground, as deep in it as they sink.

    `lean_east` and `lean_north` are the horizontal parts of the way up: of the ground's unit normal for kinds that lean
    wholly with it, 0 for upright ones, with each plant's own tilt on top.
    """
    found = []
    for key, part, kind, plants in () if bed is None else bed.sown:
        assert bed is not None
        # In double precision: the same from whichever tract they are seen.
        rows = bed.grid.row_of(plants.y.astype(np.float64)) - bed.window.row0
        cols = bed.grid.col_of(plants.x.astype(np.float64)) - bed.window.col0
        z = (bilinear_many(bed.heights, rows, cols) - plants.sink).astype(np.float32)
        lean_east = lean_north = np.zeros(len(plants), np.float32)
        if kind.leans > 0:
            east, north = gradients(bed.heights, bed.grid.spacing)
            p, q = bilinear_many(east, rows, cols) * kind.leans, bilinear_many(north, rows, cols) * kind.leans
            length = np.sqrt(1 + p * p + q * q)
            lean_east, lean_north = (-p / length).astype(np.float32), (-q / length).astype(np.float32)
        if part.tilt_deg > 0 or plants.tilt.any():
            out, to = np.sin(np.radians(plants.tilt)), np.radians(plants.tilt_to)
            lean_east, lean_north = lean_east + out * np.sin(to), lean_north + out * np.cos(to)
            # Never past lying down.
            far = np.maximum(np.hypot(lean_east, lean_north) / 0.98, 1)
            lean_east, lean_north = (lean_east / far).astype(np.float32), (lean_north / far).astype(np.float32)
        found.append(StandingPlants(key, part, kind, plants, z, lean_east, lean_north))
    return found


def standing_plants(world: OpenWorld, land: Land, part: Window) -> list[StandingPlants]:
    """The plants on the cells of `part`, standing on the ground as it is now."""
    return stood(bed_of(world, land, part))


def plant_obstacles(world: OpenWorld, land: Land, window: Window) -> Iterator[Obstacle]:
    """What of the growth stands in a walker's way."""
    for growth in standing_plants(world, land, window):
        kind, plants = growth.kind, growth.plants
        if kind.blocks == "nothing":
            continue
        name = kind.name.lower()
        for x, y, z, tall, wide, turn in zip(
            plants.x, plants.y, growth.z, plants.height, plants.width, plants.turn, strict=True
        ):
            top, around = float(z) + kind.tall_m * float(tall), float(wide)
            if kind.blocks == "box":
                half = kind.crown_m * around
                yield Obstacle(name, float(x), float(y), 0.0, float(z) - 1, top, half, half, float(turn))
            else:
                radius = (kind.trunk_m if kind.blocks == "trunk" else kind.crown_m) * around
                if radius > 0:
                    yield Obstacle(name, float(x), float(y), radius, float(z) - 1, top)


CROWN_FROM = 0.3
"""Under this part of a tree's height there is only its trunk (our choice)."""
LOST_IN_TREES, LOST_IN_BUSHES = 0.35, 0.9
"""Of light, in a metre of crown [1/m]: half is gone after two metres of leaves, or three quarters of one (ours)."""


def canopies_of(world: OpenWorld, land: Land, window: Window) -> Iterator[Canopy]:
    """The growth of a window that hides: crowns, bushes, and stones, which let nothing through. Hold the lock."""
    for growth in standing_plants(world, land, window):
        kind, plants = growth.kind, growth.plants
        tall = kind.tall_m * plants.height
        tree, stone = kind.blocks == "trunk", kind.blocks in ("box", "hull")
        lost = math.inf if stone else LOST_IN_TREES if tree else LOST_IN_BUSHES
        low = growth.z + (CROWN_FROM * tall if tree else 0)
        yield Canopy(plants.x, plants.y, kind.crown_m * plants.width, low, growth.z + tall, lost)
