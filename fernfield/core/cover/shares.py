"""Covers lie on the ground in an order, each partly hiding those under it.

Every cover but the base has an *opacity* at each post, painted with the brush and held as
16-bit integers (65,535 is solid). A cover with a rule of its own is also there where that says.
The *share* of a cover is its opacity times what the covers above let through. What all of
them let through shows the *mix* that a world's rules make, or the base where there are none;
the base can be painted too, under all others and over the mix. So shares add up to one by
construction, and taking a cover away shows what lay under it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel

OpacityArray = NDArray[np.uint16]
SOLID = 65_535


@dataclass(frozen=True, slots=True)
class SlopeRule:
    """A cover is there where the ground is steeper than `above_deg`, growing in over `blend_deg`.

    At `above_deg` the opacity is one half.
    """

    above_deg: float
    blend_deg: float

    def __post_init__(self) -> None:
        if not 0 <= self.above_deg <= 90:
            raise InvalidInput(f"slope must be 0 to 90 degrees, not {self.above_deg}", "above_deg")
        if not 0 <= self.blend_deg <= 45:
            raise InvalidInput(f"blend must be 0 to 45 degrees, not {self.blend_deg}", "blend_deg")


def rule_opacity(slope: FloatArray, rule: SlopeRule) -> FloatArray:
    """Opacity that a slope rule gives, 0 to 1, from slopes in degrees."""
    width = max(rule.blend_deg, 1e-3)
    return np.asarray(np.clip((slope - rule.above_deg) / width + 0.5, 0, 1), np.float32)


@dataclass(frozen=True, slots=True)
class Under:
    """What lies under all that is painted: shares by rule, shape (covers, rows, cols), base first; and how much of the
    base is painted over them, shape (rows, cols), None for nothing."""

    mix: FloatArray
    base: OpacityArray | None = None

    def shares(self) -> FloatArray:
        """The share of every cover under the hand's, base first."""
        if self.base is None:
            return self.mix
        left = 1 - self.base.astype(np.float32) / SOLID
        shares = self.mix * left
        shares[0] += 1 - left
        return np.asarray(shares, np.float32)


def compose_shares(
    painted: Sequence[OpacityArray | None],
    ruled: Sequence[FloatArray | None],
    shape: tuple[int, int],
    under: Under | None = None,
) -> FloatArray:
    """Share of every cover at every post.

    Parameters
    ----------
    painted, ruled : one entry for each cover above the base, lowest first
        Painted opacity (0 to 65,535) and opacity by rule (0 to 1), each of `shape`, or
        None where there is none. Where both are there, each hides what the other leaves.
    shape : (rows, cols)
    under : what shows where nothing of these lies; the base when left out

    Returns
    -------
    shape (covers, rows, cols), base first; they add up to 1 at every post.
    """
    if len(painted) != len(ruled):
        raise InvalidInput(f"painted and ruled must be equally long, not {len(painted)} and {len(ruled)}")
    shares = np.zeros((len(painted) + 1, *shape), np.float32)
    through = np.ones(shape, np.float32)
    for i in range(len(painted) - 1, -1, -1):
        mask, rule = painted[i], ruled[i]
        if mask is None and rule is None:
            continue
        left = through.copy()
        if mask is not None:
            left *= 1 - mask.astype(np.float32) / SOLID
        if rule is not None:
            left *= 1 - rule
        shares[i + 1] = through - left
        through = left
    if under is None:
        shares[0] = through
    else:
        shares += under.shares() * through
    return shares


def compose_colours(
    painted: Sequence[OpacityArray | None],
    ruled: Sequence[FloatArray | None],
    colours: Sequence[tuple[int, int, int]],
    shape: tuple[int, int],
    under: Under | None = None,
) -> FloatArray:
    """The colour of the ground at every post: each cover's red, green and blue by its share.

    Arguments as in `compose_shares`; `colours` has one entry more, the base's first. Covers
    that are not there cost nothing.

    Returns
    -------
    shape (3, rows, cols): red, green and blue, in the range of `colours`
    """
    if len(painted) != len(ruled) or len(colours) != len(painted) + 1:
        raise InvalidInput(
            f"painted and ruled must be equally long and colours one longer, "
            f"not {len(painted)}, {len(ruled)} and {len(colours)}"
        )
    out = np.zeros((3, *shape), np.float32)
    through = np.ones(shape, np.float32)
    for i in range(len(painted) - 1, -1, -1):
        mask, rule = painted[i], ruled[i]
        if mask is None and rule is None:
            continue
        _lay(out, through, _NO_MASK if mask is None else mask, _NO_RULE if rule is None else rule, *colours[i + 1])
    if under is not None:
        if under.base is not None:
            _lay(out, through, under.base, _NO_RULE, *colours[0])
        for share, colour in zip(under.mix, colours, strict=True):
            _add(out, through, share, *colour)
    else:
        _lay(out, through, np.full(shape, SOLID, np.uint16), _NO_RULE, *colours[0])
    return out


@kernel
def _add(out: FloatArray, through: FloatArray, share: FloatArray, red: float, green: float, blue: float) -> None:
    """Add a colour to `out` by its share of what is let `through`."""
    r, g, b = np.float32(red), np.float32(green), np.float32(blue)
    for row in range(through.shape[0]):
        light, part = through[row], share[row]
        to_red, to_green, to_blue = out[0, row], out[1, row], out[2, row]
        for i in range(light.shape[0]):
            own = light[i] * part[i]
            to_red[i] += own * r
            to_green[i] += own * g
            to_blue[i] += own * b


_NO_MASK = np.zeros((0, 0), np.uint16)
_NO_RULE = np.zeros((0, 0), np.float32)


@kernel
def _lay(
    out: FloatArray, through: FloatArray, mask: OpacityArray, rule: FloatArray, red: float, green: float, blue: float
) -> None:
    """Add one cover's colour to `out` by what shows of it, and take that from what the covers above let `through`."""
    painted, ruled = mask.shape[0] > 0, rule.shape[0] > 0
    scale, one = np.float32(1 / SOLID), np.float32(1)
    r, g, b = np.float32(red), np.float32(green), np.float32(blue)
    clear = np.empty(through.shape[1], np.float32)
    # Short loops over one row each, which compilers turn into vector code.
    for row in range(through.shape[0]):
        light = through[row]
        clear[:] = one
        if painted:
            ink = mask[row]
            for i in range(clear.shape[0]):
                clear[i] = one - np.float32(ink[i]) * scale
        if ruled:
            ink_by_rule = rule[row]
            for i in range(clear.shape[0]):
                clear[i] *= one - ink_by_rule[i]
        for i in range(clear.shape[0]):
            left = light[i] * clear[i]
            clear[i] = light[i] - left
            light[i] = left
        to_red, to_green, to_blue = out[0, row], out[1, row], out[2, row]
        for i in range(clear.shape[0]):
            to_red[i] += clear[i] * r
            to_green[i] += clear[i] * g
            to_blue[i] += clear[i] * b


def share_bytes(
    painted: Sequence[OpacityArray | None], ruled: Sequence[FloatArray | None], shape: tuple[int, int],
    box: tuple[slice, slice], under: Under | None = None,
) -> ByteArray:  # fmt: skip
    """The shares of every cover in a part of what is given, as `shares_as_bytes` has them; else as `compose_shares`."""
    return shares_as_bytes(compose_shares(painted, ruled, shape, under)[:, box[0], box[1]])


def shares_as_bytes(shares: FloatArray) -> ByteArray:
    """Shares as 8-bit numbers that add up to exactly 255 at every post (largest remainder)."""
    scaled = shares.astype(np.float64) * 255
    whole = np.floor(scaled)
    missing = np.rint(255 - whole.sum(axis=0)).astype(int)
    rank = np.argsort(np.argsort(-(scaled - whole), axis=0, kind="stable"), axis=0, kind="stable")
    return np.asarray(whole + (rank < missing), np.uint8)
