"""Dabs of the cover tools on eight masks, beside a copy of the same windows."""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.bench import Plan, Row, Task, row
from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.mask import add_in_place, press_mask
from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.brush.tool import Tool
from fernfield.core.cover.areas import swapped
from fernfield.core.cover.rules import ASPECT, CURVATURE, ELEVATION, SLOPE, Condition, Rule, asked_of, mixed
from fernfield.core.cover.shares import compose_colours
from fernfield.core.cover.tools import COVER_TOOLS
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.grid import FloatArray
from fernfield.core.light.daylight import Daylight, daylight
from fernfield.core.noise import plain_spots

COVERS, RADIUS = 8, 64
TILE = 256
SIDE = 2 * RADIUS + 1


def rows(plan: Plan) -> Iterator[Row]:
    masks = np.random.default_rng(5).integers(0, 65_536, (COVERS, plan.large, plan.large), np.uint16)
    for tool in COVER_TOOLS.values():
        yield _dab(tool, masks, plan)
    yield from _rules(plan)
    yield _pictures(plan)
    yield _swap(masks, plan)


def _swap(masks: NDArray[np.uint16], plan: Plan) -> Row:
    """A swap over a whole tract, tile by tile as an area is worked on."""
    whole, out = np.ones((TILE, TILE), np.float32), np.empty((COVERS, TILE, TILE), np.uint16)
    corners = [(r, c) for r in range(0, plan.large - 1, TILE) for c in range(0, plan.large - 1, TILE)]

    def tiles() -> Iterator[NDArray[np.uint16]]:
        for r, c in corners:
            yield masks[:, r : r + TILE, c : c + TILE]

    def swap() -> None:
        for tile in tiles():
            swapped(tile, 2, 5, whole, 0.05)

    def copy() -> None:
        for tile in tiles():
            np.copyto(out, tile)

    return row(
        f"swap of {COVERS} covers on {plan.large}²", "a copy of their masks", "6 copies", swap, copy,
        max(3, plan.runs // 5),
    )  # fmt: skip


RULES = [
    Rule(1, 0.9, (
        Condition(ELEVATION, -20, 60, 10), Condition(SLOPE, 5, 40, 8), Condition(ASPECT, 90, 270, 30),
        Condition(CURVATURE, -1, 1, 0.5),
    )),
]  # fmt: skip


def _rules(plan: Plan) -> Iterator[Row]:
    """One rule of four conditions over a whole tract, beside the same in plain NumPy; and how many posts a second."""
    side = plan.large
    noise = np.random.default_rng(1).normal(0, 1, (side + 2, side + 2)).astype(np.float32)
    land: FloatArray = np.asarray(cv2.GaussianBlur(noise, (0, 0), 12) * 600, np.float32)

    def plainly() -> None:
        def between(value: FloatArray, low: float, high: float, soft: float) -> FloatArray:
            return np.clip((value - low) / soft + 0.5, 0, 1) * np.clip((high - value) / soft + 0.5, 0, 1)

        slope, aspect, curve = (asked_of(what, land, 1.0) for what in ("slope", "aspect", "curvature"))
        assert slope is not None
        assert aspect is not None
        assert curve is not None
        away = np.abs((aspect - 180 + 180) % 360 - 180)
        facing = np.nan_to_num(np.clip((90 - away) / 30 + 0.5, 0, 1))
        met = 0.9 * between(land[1:-1, 1:-1], -20, 60, 10) * between(slope, 5, 40, 8) * facing
        np.stack([1 - met * between(curve, -1, 1, 0.5), met])

    yield row(
        f"a rule of four conditions on {side:,}²", "the same in NumPy", "1/8",
        lambda: mixed(land, 1.0, RULES, [], 2), plainly, max(3, plan.runs // 6),
    )  # fmt: skip
    seconds = [_seconds(lambda: mixed(land, 1.0, RULES, [], 2)) for _ in range(3)]
    own, aim = statistics.median(seconds), side * side / 30e6
    rate = side * side / own / 1e6
    yield Row(f"that rule on {side:,}²: {rate:.0f} M posts/s", "30 M posts/s", own, aim, own / aim, "1")


def _seconds(work: Task) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def _pictures(plan: Plan) -> Row:
    """A picture with sixteen covers beside one with four, all of them everywhere."""
    side = plan.large
    masks = [np.full((side, side), 20_000 + 100 * k, np.uint16) for k in range(15)]
    heights = np.random.default_rng(2).normal(20, 0.2, (side + 2, side + 2)).astype(np.float32)
    lit = np.full((side, side), 255, np.uint8)
    colours = [(10 * k, 20, 200 - 10 * k) for k in range(16)]

    def of(count: int) -> None:
        ground = compose_colours(masks[: count - 1], [None] * (count - 1), colours[:count], (side, side))
        draw_plan(heights, 1.0, ground, daylight(heights, 1.0, lit, Daylight(315, 34)), PlanLook(-100.0, 2.0))

    return row(
        f"picture of {side:,}² with 16 covers", "with 4", "2", lambda: of(16), lambda: of(4), max(3, plan.runs // 6)
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
