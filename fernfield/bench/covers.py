"""Dabs of the cover tools on eight masks, beside a copy of the same windows."""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.mask import add_in_place, press_mask
from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.brush.tool import Tool
from fernfield.core.cover.areas import swapped
from fernfield.core.cover.tools import COVER_TOOLS
from fernfield.core.noise import plain_spots

COVERS, RADIUS = 8, 64
SIDE = 2 * RADIUS + 1


def rows(plan: Plan) -> Iterator[Row]:
    masks = np.random.default_rng(5).integers(0, 65_536, (COVERS, plan.large, plan.large), np.uint16)
    for tool in COVER_TOOLS.values():
        yield _dab(tool, masks, plan)
    window = masks[:, :512, :512].copy()
    out, whole = np.empty_like(window), np.ones((512, 512), np.float32)
    yield row(
        f"swap of {COVERS} covers on 512²", "a copy of their masks", "6 copies",
        lambda: swapped(window, 2, 5, whole, 0.05), lambda: np.copyto(out, window), max(5, plan.runs // 3),
    )  # fmt: skip


def _dab(tool: Tool, masks: np.ndarray, plan: Plan) -> Row:
    """One dab of a plain round brush, the lowest cover's, under seven others: as an open tract makes it."""
    rng = random.Random(3)
    halo = tool.halo(RADIUS)
    reach, most = RADIUS + halo, masks.shape[1] - RADIUS - halo
    out = np.empty((COVERS, SIDE, SIDE), np.uint16)
    touch = Touch(reach, reach, RADIUS, 0.6, 0.01)

    def window(beyond: int) -> tuple[slice, slice, slice]:
        r, c = rng.randrange(reach, most), rng.randrange(reach, most)
        return slice(None), slice(r - beyond, r + beyond + 1), slice(c - beyond, c + beyond + 1)

    def copy() -> None:
        np.copyto(out, masks[window(RADIUS)])

    def dab() -> None:
        own = masks[window(reach)]
        if tool.press_masks is not None:
            held = own.copy()
            weights = weight_window(held.shape[1:], touch)
            tool.press_masks(MaskPressing(held, False, weights, 0.01, tool.first, 1.0, held.copy()))
            own[...] = held
        elif tool.pattern is not None:
            spots = plain_spots(0, 0, 1.0)
            weights = weight_window(own.shape[1:], touch) * tool.pattern(own.shape[1:], spots, tool.first, 1.0)
            for mask in own:
                press_mask(mask, weights, 0.01)
        else:
            for mask in own:
                add_in_place(mask, touch)

    aim = "6 copies" if tool.name == "paint" else "–"
    return row(
        f"{tool.label.lower()}, radius {RADIUS} posts, {COVERS} covers, on {masks.shape[1]:,}²",
        "a copy of the windows", aim, dab, copy, plan.runs, inner=6,
    )  # fmt: skip
