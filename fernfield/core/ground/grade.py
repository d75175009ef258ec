"""Grade: an even slope along a path, with shoulders that run into the land at a stated angle.

From side to side the way is level, along its axis it rises evenly. Beyond its edges the
land is cut down to a bank of the shoulder's angle, or filled up to one, as an earthwork
is (cut and fill slopes at a fixed batter; common practice). On land steeper than the
shoulders they would never meet the ground: they end at their reach, and a steeper bank
takes up what is left, as a retained slope does.
"""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.brush.pressing import Laying
from fernfield.core.grid import FloatArray, Window
from fernfield.core.kernels import kernel
from fernfield.core.settings import Setting, Values

BY = ("both", "cut", "fill")
BY_WORDS = {"both": "cut and fill", "cut": "cut only", "fill": "fill only"}

SETTINGS = (
    Setting("width_m", "Width", "m", 0.5, 500, 8),
    Setting("shoulder_deg", "Shoulder", "°", 5, 89, 34),
    Setting("reach_m", "Shoulders reach", "m", 0, 400, None, left_out="three widths"),
    Setting("bank_deg", "Bank beyond", "°", 20, 89, 75),
    Setting("from_m", "From", "m", -12_000, 12_000, None, left_out="ground there"),
    Setting("to_m", "To", "m", -12_000, 12_000, None, left_out="ground there"),
    Setting(
        "way",
        "Along",
        first="path",
        choices=("path", "ends"),
        called={"path": "the drawn curve", "ends": "straight from end to end"},
    ),
    Setting("by", "By", first="both", choices=BY, called=BY_WORDS),
)

FURTHEST_M = 400.0
"""The bank beyond the shoulders' reach ends here at the latest. [m]"""

WIDTHS = 3.0
"""How far shoulders reach when nothing is said, in widths of the way."""


def reach_of(values: Values) -> float:
    """How far the shoulders reach from the edges of the way. [m]"""
    said = values["reach_m"]
    return WIDTHS * float(values["width_m"]) if said is None else float(said)


def _banked(values: Values, deep: float) -> float:
    """How far from its edges a way that lies `deep` under or over the ground can change it. [m]"""
    reach = reach_of(values)
    shoulder = math.tan(math.radians(values["shoulder_deg"]))
    if deep <= reach * shoulder:
        return deep / shoulder
    return reach + min((deep - reach * shoulder) / math.tan(math.radians(values["bank_deg"])), FURTHEST_M)


def smooth_path(path: FloatArray, gap: float) -> FloatArray:
    """A hand's path without its tremor: points at least `gap` apart, corners cut twice (Chaikin's rule).

    First and last point stay. Shape (points, 2).
    """
    kept = [path[0]]
    for point in path[1:-1]:
        if math.hypot(*(point - kept[-1])) >= gap:
            kept.append(point)
    if len(path) > 1:
        if len(kept) > 1 and math.hypot(*(path[-1] - kept[-1])) < gap / 2:
            kept.pop()
        kept.append(path[-1])
    line = np.array(kept, np.float64)
    for _ in range(2 if len(line) > 2 else 0):
        a, b = line[:-1], line[1:]
        cut = np.stack([a * 0.75 + b * 0.25, a * 0.25 + b * 0.75], axis=1).reshape(-1, 2)
        line = np.concatenate([line[:1], cut, line[-1:]])
    return line.astype(np.float32)


def axis(path: FloatArray, values: Values, spacing: float) -> FloatArray:
    """The axis of the way that a path makes. Shape (points, 2), in posts."""
    if values["way"] == "ends":
        return np.ascontiguousarray(path[[0, -1]])
    return smooth_path(path, max(values["width_m"] / spacing / 3, 0.5))


def length_of(line: FloatArray) -> float:
    """In the unit of its points."""
    return float(np.hypot(*np.diff(line.astype(np.float64), axis=0).T).sum())


def grade_area(path: FloatArray, values: Values, spacing: float, low: float, high: float) -> Window:
    """The posts that a grade can change, where the ground lies between `low` and `high`. [m]"""
    ends = [v for v in (values["from_m"], values["to_m"]) if v is not None]
    deep = max(high, *ends, low) - min(low, *ends, high) if ends else high - low
    wide = math.ceil((values["width_m"] / 2 + _banked(values, deep)) / spacing) + 1
    (top, left), (bottom, right) = path.min(axis=0), path.max(axis=0)
    return Window(math.floor(top), math.floor(left), math.ceil(bottom) + 1, math.ceil(right) + 1).pad(wide)


def lay_grade(work: Laying) -> None:
    """Lay the way into the heights."""
    values = work.values
    line = axis(work.path, values, work.spacing)
    begins = work.began if values["from_m"] is None else values["from_m"]
    ends = work.ended if values["to_m"] is None else values["to_m"]
    half = values["width_m"] / 2 / work.spacing
    # No shoulder is longer than from the lowest to the highest of ground and way.
    low, high = min(float(work.heights.min()), begins, ends), max(float(work.heights.max()), begins, ends)
    reach = half + _banked(values, high - low) / work.spacing + 1
    near = np.full(work.heights.shape, np.float32(reach), np.float32)
    along = np.zeros(work.heights.shape, np.float32)
    _nearest(near, along, line.astype(np.float64), reach)
    whole = max(length_of(line), 1e-9)
    level = (begins + (ends - begins) * (along / whole)).astype(np.float32)
    beyond = np.maximum(near - half, 0) * np.float32(work.spacing)
    shoulder = np.minimum(beyond, np.float32(reach_of(values)))
    bank = shoulder * np.float32(math.tan(math.radians(values["shoulder_deg"])))
    bank += (beyond - shoulder) * np.float32(math.tan(math.radians(values["bank_deg"])))
    bank[near >= reach] = np.inf
    cut = np.minimum(work.heights, level + bank)
    fill = np.maximum(work.heights, level - bank)
    by = values["by"]
    # Over the way both meet in its level; outside only one of them differs from the ground.
    new = cut if by == "cut" else fill if by == "fill" else np.where(cut < work.heights, cut, fill)
    work.heights[...] = new


@kernel
def _nearest(near: FloatArray, along: FloatArray, line: FloatArray, reach: float) -> None:
    """Distance of every post within `reach` to the line, and how far along it the nearest place is. [posts]"""
    rows, cols = near.shape
    gone = 0.0
    for s in range(line.shape[0] - 1):
        r0, c0 = line[s, 0], line[s, 1]
        dr, dc = line[s + 1, 0] - r0, line[s + 1, 1] - c0
        long = math.sqrt(dr * dr + dc * dc)
        if long > 0:
            top, bottom = max(0, int(min(r0, r0 + dr) - reach)), min(rows, int(max(r0, r0 + dr) + reach) + 2)
            left, right = max(0, int(min(c0, c0 + dc) - reach)), min(cols, int(max(c0, c0 + dc) + reach) + 2)
            for r in range(top, bottom):
                for c in range(left, right):
                    t = ((r - r0) * dr + (c - c0) * dc) / (long * long)
                    t = min(max(t, 0.0), 1.0)
                    away = math.sqrt((r - r0 - t * dr) ** 2 + (c - c0 - t * dc) ** 2)
                    if away < near[r, c]:
                        near[r, c] = away
                        along[r, c] = gone + t * long
        gone += long


def measures(path: FloatArray, values: Values, spacing: float, ends: tuple[float, float]) -> dict[str, float]:
    """Length [m], slope [%] and shoulders' reach [m] of the way that a path makes.

    ends : the ground where it begins and ends [m]
    """
    length = length_of(axis(path, values, spacing)) * spacing
    begins = ends[0] if values["from_m"] is None else values["from_m"]
    ending = ends[1] if values["to_m"] is None else values["to_m"]
    percent = (ending - begins) / length * 100 if length > 0 else 0.0
    return {"length_m": length, "from_m": begins, "to_m": ending, "percent": percent, "reach_m": reach_of(values)}
