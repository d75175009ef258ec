"""The load gauge: what the growth of a land costs to draw, all of it and from a spot, before and after a change."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict
from typing import Annotated, Literal, cast

import numpy as np
from typing_extensions import TypedDict

from fernfield.core.checks.growth import Switch
from fernfield.core.grid import Window
from fernfield.core.growth.load import MACHINES, Drawn, Load, Machine, load
from fernfield.core.growth.shapes import DETAILS, NEAR
from fernfield.core.growth.spacing import HECTARE_M2
from fernfield.core.growth.sward import TUFT_TRIANGLES, tufts_drawn
from fernfield.work.growth.hand import hand_of
from fernfield.work.growth.rows import Kind, Mix, kind_of, mixes_of
from fernfield.work.growth.shaping import triangles_of
from fernfield.work.growth.sowing import shares_of
from fernfield.work.growth.swards import SWARDS, sward_share
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import ONLY, Collection, Row
from fernfield.work.kernel.says import Say
from fernfield.work.kernel.world import OpenWorld

CELLS = 256
"""The land is looked at in so many cells a side: each is at one distance."""


class Target(Row):
    """Collection "target", key "world": the machine that the world is made for."""

    machine: Annotated[
        Literal["hand", "modest", "strong"],
        Say("Made for", called={name: machine.label for name, machine in MACHINES.items()}),
    ] = "modest"


TARGET = Collection(
    "target", Target, "target machine", only=ONLY, first=Target(), words=lambda row: "Set the target machine"
)


def _counts(world: OpenWorld, land: Land, changed: Mapping[str, Mix]) -> tuple[list[tuple[str, Kind, np.ndarray]], int]:
    """How many of each kind stand in each cell, by how full the land is there; and the posts of a cell's side."""
    step = 1
    while max(land.bounds.shape) / step > CELLS:
        step *= 2
    found = []
    cell = (land.grid.spacing * step) ** 2 / HECTARE_M2
    with world.lock:
        for key, own in mixes_of(world):
            mix = changed.get(key, own)
            shares = shares_of(world, land, key, mix, land.bounds, step)
            for part, share, per_ha in zip(mix.kinds, shares, mix.pattern.per_ha, strict=True):
                kind = kind_of(world, part)
                if share is not None and kind is not None:
                    found.append((part.kind, kind, share * np.float32(per_ha * cell)))
    return found, step


def _near(land: Land, spot: tuple[float, float] | None, reach: float, step: int) -> tuple[Window, int]:
    """The posts whose ground cover is drawn: around a spot, or all of them, every so many."""
    return (land.bounds, step) if spot is None else (land.around(*spot, reach), 1)


class Gauged(TypedDict):
    """What growth costs to draw: plants and tufts of each kind, the load, and its shares of what a machine bears."""

    machine: Machine
    spot: list[float] | None
    kinds: dict[str, int]
    count: int
    tufts: dict[str, int]
    load: Load
    shares: dict[str, float]


def gauge(
    world: OpenWorld, land: Land, spot: tuple[float, float] | None = None, changed: Mapping[str, Mix] | None = None
) -> Gauged:
    """The load of a land's growth: `whole`, and from a spot by the distances of the kinds, beside the target machine.

    Ground cover counts as far as it is drawn: around the spot, or where on the land it is densest. `changed`: mixes as
    they would be. Counts are those that the land has room for by how full it is, cell by cell.
    """
    counts, step = _counts(world, land, changed or {})
    grid, bounds = land.grid, land.bounds
    whole: dict[str, float] = {}
    drawn: dict[tuple[str, int], Drawn] = {}
    rows, cols = -(-bounds.rows // step), -(-bounds.cols // step)
    x = grid.x_of(bounds.col0) + np.arange(cols) * grid.spacing * step
    y = grid.y_of(bounds.row0) - np.arange(rows) * grid.spacing * step
    away = None if spot is None else np.hypot(x[None] - spot[0], y[:, None] - spot[1])

    def add(key: str, kind: Kind, detail: int, count: float) -> None:
        before = drawn.get((key, detail))
        drawn[key, detail] = Drawn(
            key, detail, count + (before.count if before else 0.0), triangles_of(world, kind, detail)
        )

    for key, kind, count in counts:
        whole[key] = whole.get(key, 0.0) + float(count.sum())
        if away is None:
            add(key, kind, 0, float(count.sum()))
            continue
        limits = (0.0, kind.simpler_m, kind.card_m, kind.gone_m)
        for detail in DETAILS:
            seen = (away >= limits[detail]) & (away < limits[detail + 1])
            add(key, kind, detail, float(count[: away.shape[0], : away.shape[1]][seen].sum()))
    hand = hand_of(world)
    put = hand.plants[~hand.plants["sown"] & ~hand.plants["gone"]]
    for at, (_, key) in enumerate(hand.names):
        own = world.rows["kinds"].get(key)
        number = int((put["name"] == at).sum())
        if number and isinstance(own, Kind):
            whole[key] = whole.get(key, 0.0) + number
            add(key, own, 0, number)
    tufts: dict[str, int] = {}
    with world.lock:
        for key, row in world.each(SWARDS):
            share = sward_share(world, land, row, *_near(land, spot, row.reach_m, step))
            many = tufts_drawn(share, grid.spacing * (1 if spot else step), row.per_m2, row.reach_m)
            drawn[key, -1] = Drawn(f"sward:{key}", NEAR, many, TUFT_TRIANGLES)
            tufts[key] = round(many)
    machine = MACHINES[world.only(TARGET).machine]
    found = load(list(drawn.values()))
    return {
        "machine": cast(Machine, asdict(machine)), "spot": None if spot is None else list(spot),
        "kinds": {key: round(count) for key, count in whole.items()}, "count": round(sum(whole.values())),
        "tufts": tufts,
        "load": cast(Load, asdict(found)),
        "shares": {name: round(share, 4) for name, share in found.shares(machine).items()},
    }  # fmt: skip


def switch_of(kind: Kind, tall_px: int = 1080, view_deg: float = 50.0) -> Switch:
    """How tall a kind of size 1 is on a screen where its detail changes; the page's view is 50° high."""
    per_m = tall_px / (2 * math.tan(math.radians(view_deg) / 2))
    far = {"simpler": kind.simpler_m, "card": kind.card_m, "gone": kind.gone_m}
    return Switch(kind.name, {name: round(kind.tall_m / m * per_m, 1) for name, m in far.items()}, far)
