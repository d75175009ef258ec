"""What a tool does and an overlay shows, tried on a small piece of made-up ground: for the pictures of the help."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fernfield.core.brush.brush import Touch
from fernfield.core.brush.pressing import Laying
from fernfield.core.brush.tool import HEIGHT, Tool
from fernfield.core.drawing.overlays import Overlay, Seen
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.grid import ByteArray, FloatArray

ROWS, COLS = 81, 161
SPACING_M = 1.0
RADIUS = 34.0
"""Of the brush that tries. [posts]"""
DABS = 12
STRENGTHS = {"m/s": 8.0, "%/s": 160.0}
SECONDS = 1.2
"""How strongly and how long the tool is tried."""
RAMP = np.linspace(-1.0, 1.0, 33, dtype=np.float32)
IMAGE = np.clip(1.2 - np.hypot(RAMP[:, None], RAMP[None, :]), 0, 1).astype(np.float32)


@dataclass(frozen=True)
class Tried:
    """The ground (or the mask) along a line through the brush, before and after; shape (161,). [m, or a share]"""

    before: FloatArray
    after: FloatArray


def _ground() -> FloatArray:
    """A slope with a swell, a step and a grain; always the same. [m]"""
    x = np.arange(COLS, dtype=np.float64)
    line = 12 + 5 * np.sin(x / 29) + 4 / (1 + np.exp(-(x - 96) / 1.6)) + 0.5 * np.sin(x / 2.3) + 0.35 * np.sin(x / 1.27)
    rows = np.arange(ROWS, dtype=np.float64)[:, None]
    return (line[None, :] + 0.4 * np.sin(rows / 7)).astype(np.float32)


def tried(tool: Tool) -> Tried:
    """What `tool` makes of the ground, or of a mask that is half laid on, with its settings as they are at first."""
    on_ground = tool.layer == HEIGHT
    work = _ground() if on_ground else np.full((ROWS, COLS), 0.5, np.float32)
    row, col = ROWS // 2, COLS / 2
    before = work[row].copy()
    values = dict(tool.first)
    if tool.lay is not None:
        if "image" in values:
            values |= {"image": IMAGE}
        ends = np.array([[row, 24.0], [row, COLS - 24.0]])
        path = ends if "image" not in values else np.array([[row, col], [row, col]])
        began, ended = float(work[row, 24]), float(work[row, COLS - 24])
        tool.lay(Laying(work, path, SPACING_M, values, began, ended))
        return Tried(before, work[row].copy())
    amount = tool.amount(STRENGTHS[tool.unit], SECONDS / DABS)
    if not on_ground:
        weights = np.clip(2 - 2 * np.abs(np.arange(COLS) - col) / RADIUS, 0, 1)
        after = np.clip(before + tool.sign * amount * DABS * weights, 0, 1) if tool.sign else before
        return Tried(before, after.astype(np.float32))
    target = (
        float(work[row, int(col)]) if tool.aims is None else tool.aims(values, float(work[row, int(col)]), lambda: 0.0)
    )
    for _ in range(DABS):
        tool.apply(work, Touch(float(row), col, RADIUS, 0.6, amount), target, values, SPACING_M)
    return Tried(before, work[row].copy())


HIGH, WIDE = 72, 240
"""Of the picture of an overlay. [px]"""
POST_PIXELS = 4


def overlaid(overlay: Overlay) -> ByteArray:
    """A plan of made-up ground with the overlay over it: a hill, a steep bank and a spike; shape (72, 240, 3)."""
    y, x = np.mgrid[-1 : HIGH + 1, -1 : WIDE + 1].astype(np.float32)
    heights = 18 * np.exp(-(((x - 70) / 45) ** 2 + ((y - 36) / 26) ** 2)) + 9 / (1 + np.exp(-(x - 165) / 5)) + x / 60
    heights[HIGH // 2, 210] += 8
    heights = heights.astype(np.float32)
    colours = np.empty((3, HIGH, WIDE), np.float32)
    colours[:] = np.array([168, 166, 115], np.float32)[:, None, None]
    lit = np.full((HIGH, WIDE), 255, np.uint8)
    out = draw_plan(heights, 1.0, colours, lit, PlanLook(315, 34, -100.0, 0.0))
    posts = heights[::POST_PIXELS, ::POST_PIXELS].copy()
    posts[HIGH // POST_PIXELS // 2, 210 // POST_PIXELS] += 20
    kept = np.clip((x[1:-1, 1:-1] - 110) / 20, 0, 1).astype(np.float32)
    seen = Seen(
        heights, 1.0, 0.0, 24.0, 0, 0, posts, (POST_PIXELS - 1, POST_PIXELS - 1), POST_PIXELS, POST_PIXELS, kept
    )
    overlay.draw(out, seen)
    return np.ascontiguousarray(out[..., :3])
