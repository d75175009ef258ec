"""Rules that put covers where the land says: a list that is read from top to bottom.

A rule has conditions, each of which says how far a post meets it (0 to 1, with soft limits); all of them
must be met, so they are multiplied. What comes of it, times the rule's amount, is the part that its cover takes of
what the rules above have left. The base takes what is left by all of them: so shares add up to one by construction.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

ELEVATION, SLOPE, ASPECT, CURVATURE, SHARE, FIELD = range(6)


@dataclass(frozen=True, slots=True)
class What:
    """What a condition asks of a post.

    name : as the API has it; label, unit : as the page shows them
    least, most : what limits may be set to, in its unit
    code : how the kernel gets at it; FIELD for what comes as an array of its own
    around : whether its values go round a circle
    percent : a share of 1 that the page shows in percent
    """

    name: str
    label: str
    unit: str
    least: float
    most: float
    code: int = FIELD
    around: bool = False
    percent: bool = False


WHATS: dict[str, What] = {
    what.name: what
    for what in (
        What("elevation", "Elevation", "m", -12_000, 12_000, ELEVATION),
        What("above_water", "Height over the sea", "m", -12_000, 12_000, ELEVATION),
        What("slope", "Slope", "°", 0, 90, SLOPE),
        What("aspect", "Aspect", "°", 0, 360, ASPECT, around=True),
        What("curvature", "Curvature", "per 100 m", -10_000, 10_000, CURVATURE),
        What("wetness", "Wetness", "", -10, 40),
        What("shade", "Shade", "%", 0, 100),
        What("water_distance", "Distance to water", "m", 0, 1_000),
        What("tide", "Between the tides", "%", -1_000, 1_000),
        What("noise", "Noise", "", -1, 1),
        What("plot", "Inside a plot", "m", -500, 500),
        What("line_distance", "Distance to a line", "m", 0, 1_000),
        What("start_distance", "Distance to a start", "m", 0, 1_000),
        What("piece_distance", "Distance to a piece", "m", 0, 1_000),
        What("cover", "Share of a cover", "%", 0, 1, SHARE, percent=True),
    )
}
"""The next condition is a line here, and where it is not one of the ground's own, a field for it."""


@dataclass(frozen=True, slots=True)
class Condition:
    """A post meets it between `low` and `high` (None: to any side), half at the limits, wholly `soft` / 2 inside them.

    field : for FIELD, which array; for SHARE, the number of the cover whose share by the rules above is asked for
    """

    code: int
    low: float | None
    high: float | None
    soft: float
    field: int = 0


@dataclass(frozen=True, slots=True)
class Rule:
    """cover : its number, 0 the base; amount : 0 to 1; ragged : how far the noise `field` tears its edges, 0 to 1"""

    cover: int
    amount: float
    conditions: tuple[Condition, ...]
    ragged: float = 0.0
    field: int = 0


WIDEST = 1e9
_BANDS = ThreadPoolExecutor(max_workers=2, thread_name_prefix="rules")
_BAND_POSTS = 1 << 18


def check_limits(what: What, low: float | None, high: float | None) -> None:
    """Raises InvalidInput for limits that no post can lie between."""
    if low is not None and high is not None and low > high and not what.around:
        raise InvalidInput(f"{what.name} from {low:g} to {high:g} is nowhere: the smaller number comes first", "from")


def _ramp(low: float | None, high: float | None, soft: float) -> tuple[float, float, float]:
    return -WIDEST if low is None else low, WIDEST if high is None else high, 1 / max(soft, 1e-6)


def _table(rules: Sequence[Rule]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Rules as numbers: (rules, 4) cover, first condition, end of conditions, noise; and (conditions, 8)."""
    heads = np.zeros((len(rules), 4), np.int64)
    conditions: list[tuple[float, ...]] = []
    for i, rule in enumerate(rules):
        heads[i] = rule.cover, len(conditions), len(conditions) + len(rule.conditions), rule.field
        # What is quick to ask comes first: where a rule is not met nothing more is worked out.
        for one in sorted(rule.conditions, key=lambda condition: condition.code in (SLOPE, ASPECT)):
            low, high, per = _ramp(one.low, one.high, one.soft)
            sure = (0.0, 0.0, 0.0, 0.0)
            if one.code == SLOPE:
                # Where the rise is outside of these, no angle has to be worked out: squares of tangents.
                half = one.soft / 2
                sure = (_square(low - half), _square(low + half), _square(high - half), _square(high + half))
            elif one.code == ASPECT:
                # Aspects are asked for by how far they lie from the middle of what is wanted.
                width = 360.0 if one.low is None or one.high is None else (one.high - one.low) % 360
                whole = one.low is None or one.high is None or one.high - one.low >= 360
                low, high = 0.0 if one.low is None else one.low + width / 2, WIDEST if whole else width / 2
                inner, outer, middle = width / 2 - one.soft / 2, width / 2 + one.soft / 2, math.radians(low)
                # Towards the middle: surely met, surely not; and the middle's own direction.
                sure = (
                    math.cos(math.radians(inner)) if inner > 0 else 2.0,
                    math.cos(math.radians(outer)) if outer < 180 else -2.0,
                    math.sin(middle), math.cos(middle),
                )  # fmt: skip
            conditions.append((float(one.code), low, high, per, *sure, float(one.field)))
    return heads, np.array(conditions, np.float64).reshape(len(conditions), 9)


def _square(degrees: float) -> float:
    if degrees <= 0:
        return -1.0
    return float("inf") if degrees >= 90 else math.tan(math.radians(degrees)) ** 2


def mixed(
    heights: FloatArray, spacing: float, rules: Sequence[Rule], fields: Sequence[FloatArray], covers: int
) -> FloatArray:
    """The share of every cover by the rules, base first; they add up to 1 at every post.

    Slope and aspect are Horn's [1]_, curvature is that of Zevenbergen and Thorne [2]_, -2 (D + E), here for 100 m:
    above 0 where the ground bulges out. Level ground meets no aspect.

    Parameters
    ----------
    heights : shape (rows + 2, cols + 2), one post more on every side. [m]
    spacing : between posts [m]
    fields : arrays of shape (rows, cols) that conditions name by their number
    covers : how many there are, with the base

    Returns
    -------
    shape (covers, rows, cols)

    References
    ----------
    .. [1] B. K. P. Horn (1981), doi:10.1109/PROC.1981.11918
    .. [2] L. W. Zevenbergen and C. R. Thorne (1987), doi:10.1002/esp.3290120107
    """
    rows, cols = heights.shape[0] - 2, heights.shape[1] - 2
    out = np.zeros((covers, rows, cols), np.float32)
    heads, conditions = _table(rules)
    amounts = np.array([(rule.amount, rule.ragged) for rule in rules], np.float32).reshape(len(rules), 2)
    planes = np.stack(fields) if fields else np.zeros((1, 1, 1), np.float32)
    given = np.ascontiguousarray(heights, np.float32)
    codes = conditions[:, 0]
    needs = bool(np.isin(codes, (SLOPE, ASPECT)).any()), bool((codes == CURVATURE).any())

    def band(first: int, last: int) -> None:
        _mixed(given, float(spacing), heads, conditions, amounts, planes, *needs, first, last, out)

    if rows * cols < 2 * _BAND_POSTS:
        band(0, rows)
    else:
        deep = max(1, _BAND_POSTS // cols)
        list(_BANDS.map(lambda first: band(first, min(first + deep, rows)), range(0, rows, deep)))
    return out


@kernel
def _between(value: np.float32, low: np.float32, high: np.float32, per: np.float32) -> np.float32:
    half, one, zero = np.float32(0.5), np.float32(1), np.float32(0)
    below = min(max((value - low) * per + half, zero), one)
    above = min(max((high - value) * per + half, zero), one)
    return np.float32(below * above)


@kernel
def _mixed(
    heights: FloatArray,
    spacing: float,
    heads: NDArray[np.int64],
    conditions: NDArray[np.float64],
    amounts: FloatArray,
    fields: FloatArray,
    slopes: bool,
    curves: bool,
    first: int,
    last: int,
    out: FloatArray,
) -> None:
    cols = out.shape[2]
    one, zero, half, two = np.float32(1), np.float32(0), np.float32(0.5), np.float32(2)
    k = np.float32(1 / (8 * spacing))
    bend = np.float32(-200 / (spacing * spacing))
    degrees = np.float32(180 / math.pi)
    rules = heads.shape[0]
    east, north, square, curve = (
        np.zeros(cols, np.float32), np.zeros(cols, np.float32), np.zeros(cols, np.float32), np.zeros(cols, np.float32)
    )  # fmt: skip
    lows, highs = conditions[:, 1].astype(np.float32), conditions[:, 2].astype(np.float32)
    pers = conditions[:, 3].astype(np.float32)
    met, through = np.empty(cols, np.float32), np.empty(cols, np.float32)
    for r in range(first, last):
        up, mid, low = heights[r], heights[r + 1], heights[r + 2]
        # Short loops over one row each, which compilers turn into vector code.
        if slopes:
            for c in range(cols):
                east[c] = ((up[c + 2] - up[c]) + two * (mid[c + 2] - mid[c]) + (low[c + 2] - low[c])) * k
                north[c] = ((up[c] - low[c]) + two * (up[c + 1] - low[c + 1]) + (up[c + 2] - low[c + 2])) * k
                square[c] = east[c] * east[c] + north[c] * north[c]
        if curves:
            for c in range(cols):
                d = half * (mid[c] + mid[c + 2]) - mid[c + 1]
                e = half * (up[c + 1] + low[c + 1]) - mid[c + 1]
                curve[c] = (d + e) * bend
        through[:] = one
        for i in range(rules):
            met[:] = amounts[i, 0]
            for j in range(heads[i, 1], heads[i, 2]):
                left = zero
                for c in range(cols):
                    left = max(left, met[c])
                if left == zero:
                    break
                code = int(conditions[j, 0])
                lo, hi, per = lows[j], highs[j], pers[j]
                if code == ELEVATION:
                    for c in range(cols):
                        met[c] *= _between(mid[c + 1], lo, hi, per)
                elif code == CURVATURE:
                    for c in range(cols):
                        met[c] *= _between(curve[c], lo, hi, per)
                elif code == FIELD:
                    field = fields[int(conditions[j, 8]), r]
                    for c in range(cols):
                        met[c] *= _between(field[c], lo, hi, per)
                elif code == SHARE:
                    share = out[int(conditions[j, 8]), r]
                    for c in range(cols):
                        met[c] *= _between(share[c], lo, hi, per)
                elif code == SLOPE:
                    a, b = np.float32(conditions[j, 4]), np.float32(conditions[j, 5])
                    e, f = np.float32(conditions[j, 6]), np.float32(conditions[j, 7])
                    for c in range(cols):
                        s = square[c]
                        if met[c] == zero or s <= a or s >= f:
                            met[c] = zero
                        elif s < b or s > e:
                            met[c] *= _between(np.arctan(np.sqrt(s)) * degrees, lo, hi, per)
                elif hi < 1000:
                    a, b = np.float32(conditions[j, 4]), np.float32(conditions[j, 5])
                    e, f = np.float32(conditions[j, 6]), np.float32(conditions[j, 7])
                    for c in range(cols):
                        if met[c] == zero:
                            continue
                        steep = np.sqrt(square[c])
                        towards = -(east[c] * e + north[c] * f)
                        if steep == zero or towards <= b * steep:
                            met[c] = zero
                        elif towards < a * steep:
                            away = np.arctan2(-east[c], -north[c]) * degrees - lo
                            away = abs(away - np.float32(360) * np.floor(away / np.float32(360) + half))
                            met[c] *= min(max((hi - away) * per + half, zero), one)
                else:
                    for c in range(cols):
                        if square[c] == zero:
                            met[c] = zero
            torn = amounts[i, 1]
            if torn > 0:
                noise = fields[heads[i, 3], r]
                for c in range(cols):
                    m = met[c]
                    # Where it is neither there nor away the noise decides; what is sure stays.
                    met[c] = min(max(m + two * torn * noise[c] * (one - abs(two * m - one)), zero), one)
            own = out[heads[i, 0], r]
            for c in range(cols):
                part = through[c] * met[c]
                own[c] += part
                through[c] -= part
        base = out[0, r]
        for c in range(cols):
            base[c] += through[c]


def asked_of(what: str, heights: FloatArray, spacing: float) -> FloatArray | None:
    """The values that a condition on the ground itself looks at; None for what needs a field. As `mixed`."""
    code = WHATS[what].code
    if code == ELEVATION:
        return heights[1:-1, 1:-1]
    if code in (SLOPE, ASPECT):
        up, low = heights[:-2], heights[2:]
        east = up[:, 2:] - up[:, :-2] + 2 * (heights[1:-1, 2:] - heights[1:-1, :-2]) + low[:, 2:] - low[:, :-2]
        north = up[:, :-2] - low[:, :-2] + 2 * (up[:, 1:-1] - low[:, 1:-1]) + up[:, 2:] - low[:, 2:]
        east, north = east / (8 * spacing), north / (8 * spacing)
        if code == SLOPE:
            return np.asarray(np.degrees(np.arctan(np.hypot(east, north))), np.float32)
        found = np.degrees(np.arctan2(-east, -north)) % 360
        return np.where((east == 0) & (north == 0), np.nan, found).astype(np.float32)
    if code == CURVATURE:
        d = (heights[1:-1, :-2] + heights[1:-1, 2:]) / 2 - heights[1:-1, 1:-1]
        e = (heights[:-2, 1:-1] + heights[2:, 1:-1]) / 2 - heights[1:-1, 1:-1]
        return np.asarray(-200 * (d + e) / spacing**2, np.float32)
    return None


Fields = Mapping[str, Callable[[], FloatArray]]
