"""What a tool does and an overlay shows, tried on a small piece of made-up ground: for the pictures of the help."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.mask import press_mask
from fernfield.core.brush.pressing import Laying, MaskPressing, Pressing
from fernfield.core.brush.tool import HEIGHT, Tool
from fernfield.core.drawing.overlays import Overlay, Seen
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.landforms.landform import Ground, Landform
from fernfield.core.light.daylight import Daylight, daylight
from fernfield.core.noise import plain_spots
from fernfield.core.settings import Setting, Values

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


def _heap() -> FloatArray:
    """A steep heap on level ground. [m]"""
    y, x = np.mgrid[:ROWS, :COLS].astype(np.float32)
    return np.asarray(np.maximum(8, 26 - 1.2 * np.hypot(y - ROWS // 2, x - COLS // 2)), np.float32)


PAIRS: dict[str, tuple[Any, Any]] = {
    "smooth.detail_m": (1, 12),
    "smooth.keep_edges_deg": (None, 20),
    "flatten.target_m": (9, 16),
    "roughen.height_m": (0.8, 6),
    "roughen.octaves": (1, 6),
    "grade.reach_m": (2, 20),
    "grade.bank_deg": (20, 75),
    "grade.from_m": (8, 14),
    "grade.to_m": (12, 20),
    "grade.width_m": (4, 24),
    "grade.shoulder_deg": (10, 60),
    "imprint.edge": (0, 60),
    "weather.repose_deg": (20, 45),
    "sow.target_per_ha": (110, 220),
}
"""Two values that show what a setting does, where half and twice of what it is at first do not."""

Way = list[tuple[float, float]]
_MIDDLE = (ROWS // 2, COLS / 2)
_ENDS: Way = [(ROWS // 2, 24.0), (ROWS // 2, COLS - 24.0)]
_BENT: Way = [_ENDS[0], (ROWS - 8, COLS / 2), _ENDS[1]]
_ACROSS: Way = [(8, COLS / 2), (ROWS - 8, COLS / 2)]


@dataclass(frozen=True)
class Trial:
    """How a tool is tried.

    needs : settings besides the one that is compared, without which that does nothing that is seen
    path : where a path lies; most go along the section, from end to end [posts]
    times : how much longer than other tools it is held
    heap : whether it is tried on a heap of loose ground
    """

    needs: Mapping[str, Any] = field(default_factory=dict)
    path: Way = field(default_factory=lambda: _ENDS)
    times: int = 1
    heap: bool = False


PLAIN = Trial()
_HIGH_WAY = Trial({"from_m": 24, "to_m": 24, "reach_m": 6}, _ACROSS)
TRIALS = {
    "weather.repose_deg": Trial({"kind": "frost"}, times=15, heap=True),
    "flatten.by": Trial({"target_m": 14}),
    "imprint.mode": Trial({"height_m": 4}),
    "grade.way": Trial(path=_BENT),
    **{f"grade.{name}": _HIGH_WAY for name in ("width_m", "shoulder_deg", "reach_m", "bank_deg")},
}
"""How a setting of a tool is tried, where the plain way does not show it."""


def pair(tool: str, setting: Setting) -> tuple[Any, Any] | None:
    """Two values of a setting of a tool whose works differ; None where it has no such pair (a picture)."""
    own = PAIRS.get(f"{tool}.{setting.name}")
    if own is not None or setting.picture:
        return own
    if setting.choices:
        return setting.choices[0], setting.choices[-1]
    if not isinstance(setting.first, int | float):
        return None
    if setting.whole:
        return setting.first, min(setting.first + 3, setting.high)
    return max(setting.low, setting.first / 2), min(setting.high, setting.first * 2)


def compared(tool: Tool, setting: Setting) -> tuple[Tried, Tried] | None:
    """What the tool does with the two values of `pair`."""
    two = pair(tool.name, setting)
    if two is None:
        return None
    trial = TRIALS.get(f"{tool.name}.{setting.name}", PLAIN)
    one, other = (tried(tool, {setting.name: value}, trial) for value in two)
    return one, other


def tried(tool: Tool, settings: Values | None = None, trial: Trial = PLAIN) -> Tried:
    """What `tool` makes of the ground, or of a mask that is half laid on; settings that are left out are at first."""
    values = {**tool.first, **trial.needs, **(settings or {})}
    if tool.layer != HEIGHT:
        return _on_mask(tool, values)
    work = _heap() if trial.heap else _ground()
    row, col = _MIDDLE
    before = work[row].copy()
    if tool.lay is not None:
        if "image" in values:
            values |= {"image": IMAGE}
        way = np.array(trial.path if "image" not in values else [_MIDDLE, _MIDDLE])
        began, ended = (float(work[int(r), int(c)]) for r, c in way[[0, -1]])
        tool.lay(Laying(work, way, SPACING_M, values, began, ended))
        return Tried(before, work[row].copy())
    amount = tool.amount(STRENGTHS[tool.unit], SECONDS / DABS)
    begins = float(work[row, int(col)])
    if values.get("target_m") is not None:
        target = float(values["target_m"])
    else:
        near = work[:, int(col - RADIUS) : int(col + RADIUS)]
        target = begins if tool.aims is None else tool.aims(values, begins, lambda: float(near.mean()))
    touch = Touch(float(row), col, RADIUS, 0.6, amount)
    covered = np.zeros_like(work)
    for serial in range(DABS * trial.times):
        if tool.covers and tool.press is not None:
            # As within one stroke: what a post has had counts.
            weights = weight_window(work.shape, touch)
            tool.press(Pressing(work, weights, amount, SPACING_M, values, target, covered=covered, serial=serial))
        else:
            tool.apply(work, touch, target, values, SPACING_M)
    return Tried(before, work[row].copy())


WHOLE = 65_535
TRIED_PER_HA = 250.0
"""The density of the mix that is tried."""


def _on_mask(tool: Tool, values: Values) -> Tried:
    """What a tool makes of a mask that is half laid on, or of a border where it works on what lies there."""
    if values.get("target_per_ha") is not None:
        values = {**values, "target_share": values["target_per_ha"] / TRIED_PER_HA}
    amount = tool.amount(STRENGTHS[tool.unit], SECONDS / DABS)
    line = np.arange(COLS)
    weights = np.clip(2 - 2 * np.abs(line - COLS / 2) / RADIUS, 0, 1).astype(np.float32)[None]
    mask = np.full((1, COLS), WHOLE // 2, np.uint16)
    if tool.press_masks is not None:
        mask[:] = np.where(line < COLS // 2, 0.3 * WHOLE, 0.75 * WHOLE)
    before = mask.copy()
    if tool.pattern is not None:
        weights = weights * tool.pattern(mask.shape, plain_spots(0, 0, SPACING_M), values, SPACING_M)
    for _ in range(DABS):
        if tool.press_masks is not None:
            # The hand goes east, as far from dab to dab as it would.
            pull = (0.0, RADIUS / DABS)
            pressing = MaskPressing(mask[None], False, weights, amount, values, SPACING_M, before[None], pull=pull)
            tool.press_masks(pressing)
        else:
            press_mask(mask, weights, tool.sign * amount)
    was, now = (found[0].astype(np.float32) / WHOLE for found in (before, mask))
    return Tried(was, now)


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
    out = draw_plan(heights, 1.0, colours, daylight(heights, 1.0, lit, Daylight(315, 34)), PlanLook(-100.0, 0.0))
    posts = heights[::POST_PIXELS, ::POST_PIXELS].copy()
    posts[HIGH // POST_PIXELS // 2, 210 // POST_PIXELS] += 20
    kept = np.clip((x[1:-1, 1:-1] - 110) / 20, 0, 1).astype(np.float32)
    seen = Seen(
        heights, 1.0, 0.0, 24.0, 0, 0, posts, (POST_PIXELS - 1, POST_PIXELS - 1), POST_PIXELS, POST_PIXELS, kept,
        # Of a share that a room knows: more and more to the east.
        dict.fromkeys(overlay.needs - {"posts", "kept"}, kept * np.float32(0.8)),
    )  # fmt: skip
    overlay.draw(out, seen)
    return np.ascontiguousarray(out[..., :3])


FEATURES = ("feature_m", "creek_m", "spacing_m")
"""Settings that say how far apart the parts of a landform are."""


SEEN_SLOPE = 0.22
"""How steep a landform is drawn on the whole: gentler ones are raised to it, so that their shading shows them."""


def formed(form: Landform, settings: Values | None = None, wide: int = WIDE) -> ByteArray:
    """A plan of a landform, five features wide, lit from the north-west; shape (72, wide, 3).

    What is gentle by its first settings is raised; two settings of one landform are raised alike.
    """
    values = {**form.first, **(settings or {})}
    feature = next((form.first[name] for name in FEATURES if name in form.first), 160.0)
    spacing = 5 * float(feature) / WIDE
    y, x = (np.mgrid[-1 : HIGH + 1, -1 : wide + 1] * spacing).astype(np.float32)
    middle = wide / 2 * spacing, HIGH / 2 * spacing
    place = Ground(x, y[::-1].copy(), middle, HIGH / 2 * spacing, 7)
    slopes = np.gradient(form.make(place, form.first), spacing)
    raised = max(1.0, SEEN_SLOPE / float(np.sqrt(np.mean(np.square(slopes)))))
    heights = (form.make(place, values) * raised).astype(np.float32)
    colours = np.empty((3, HIGH, wide), np.float32)
    colours[:] = np.array([168, 166, 115], np.float32)[:, None, None]
    lit = np.full((HIGH, wide), 255, np.uint8)
    out = draw_plan(heights, spacing, colours, daylight(heights, spacing, lit, Daylight(315, 34)), PlanLook(0.0, 0.0))
    return np.ascontiguousarray(out[..., :3])
