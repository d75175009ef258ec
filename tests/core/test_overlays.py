"""Overlays: what is laid over the plan is what the ground is."""

import math

import numpy as np
import pytest

from fernfield.core.drawing.overlays import SLOPE_CLASSES, TINTS, Seen, draw_slopes, slope_of, tint_at


def seen(heights: np.ndarray, metres: float) -> Seen:
    return Seen(heights.astype(np.float32), metres, 0.0, 60.0, 0, 0, None, (0.0, 0.0), 1.0, metres, None)


@pytest.mark.parametrize("metres", [0.5, 1.0, 4.0])
@pytest.mark.parametrize("degrees", [3.0, 12.0, 25.0, 38.0, 60.0])
def test_a_tilted_plane_has_its_slope_at_any_zoom_and_the_colour_of_its_class(degrees: float, metres: float) -> None:
    rows, cols = np.mgrid[0:22, 0:22] * metres
    rise = math.tan(math.radians(degrees))
    # Along a slanting line: 3-4-5.
    land = seen(rise * (0.6 * cols + 0.8 * rows), metres)
    assert slope_of(land) == pytest.approx(degrees, abs=0.02)
    out = np.full((20, 20, 4), 168, np.uint8)  # the grey whose light is left as it is
    draw_slopes(out, land)
    colour = next(colour for upto, _, colour in SLOPE_CLASSES if degrees < upto)
    if colour is None:
        assert (out == 168).all()
    else:
        laid = 168 + (np.asarray(colour) - 168) * 0.66
        assert np.abs(out[..., :3].reshape(-1, 3).mean(axis=0) - laid).max() < 2


def test_between_two_tints_lies_their_mean() -> None:
    steps = len(TINTS) - 1
    heights = np.linspace(0, steps, 2 * steps + 1, dtype=np.float32)
    found = tint_at(heights, 0.0, float(steps))
    assert np.allclose(found[::2], TINTS, atol=1e-3)
    assert np.allclose(found[1::2], (np.array(TINTS[:-1], float) + np.array(TINTS[1:], float)) / 2, atol=1e-3)
    # Past both ends the last tints go on.
    assert np.allclose(tint_at(np.array([-5.0, 99.0], np.float32), 0.0, 6.0), [TINTS[0], TINTS[-1]])
