"""Gradient noise: continuous, level on the whole, its octaves as the theory says; and Roughen."""

import numpy as np
import pytest

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.pressing import Pressing
from fernfield.core.ground.roughen import roughen
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.noise import FIRST_TURN, Octaves, Spots, fractal, plain_spots


def test_it_is_continuous_with_its_slope() -> None:
    """At a thousandth of a cell: neighbours differ by no more than a slope of a few, and slopes hardly at all."""
    line = fractal((1, 8001), plain_spots(-2.0, 0.37, 0.001), Octaves(1.0, 1, 0.5, 5), 0.0)[0].astype(float)
    step = np.diff(line)
    assert np.abs(step).max() < 0.001 * 4
    assert np.abs(np.diff(step[::20])).max() < 0.001 * 0.5
    # It does cross lattice lines there, and is not level.
    assert line.std() > 0.1


def test_it_is_nought_at_the_corners_of_its_lattice_and_its_mean_is_near_nought() -> None:
    # The corners of the first octave's lattice, turned back.
    east, north = np.cos(FIRST_TURN), np.sin(FIRST_TURN)
    corners = fractal((20, 20), Spots(0, 0, east, -north, north, east), Octaves(1.0, 1, 0.5, 2), 0.0)
    assert np.abs(corners).max() < 1e-6
    for seed in range(3):
        field = fractal((1024, 1024), plain_spots(0, 0, 1), Octaves(32, 5, 0.5, seed), 1.0)
        assert abs(float(field.mean())) < 0.01
        assert 0.1 < field.std() < 0.4
        assert np.abs(field).max() <= 1


@pytest.mark.parametrize("persistence", [0.35, 0.5, 0.8])
def test_its_spectrum_falls_with_persistence(persistence: float) -> None:
    """Octave by octave the waves are half as long and `persistence` as high: the energy in bands an
    octave wide falls by persistence squared from one to the next (the sum of scaled copies of one field)."""
    side, feature = 2048, 256
    energy = np.zeros((side, side))
    for seed in range(3):
        field = fractal((side, side), plain_spots(0, 0, 1), Octaves(feature, 6, persistence, seed), 1.0)
        window = np.hanning(side)
        energy += np.abs(np.fft.fft2(field * window[:, None] * window)) ** 2
    waves = np.fft.fftfreq(side)
    radius = np.hypot(waves[:, None], waves)
    bands = []
    for octave in range(5):
        low = 2**octave / feature / np.sqrt(2)
        bands.append(energy[(radius >= low) & (radius < 2 * low)].sum())
    # The first band misses the tails of an octave above it: compare those in the middle.
    for a, b in ((1, 2), (2, 3), (3, 4)):
        assert bands[b] / bands[a] == pytest.approx(persistence**2, rel=0.3)


def test_the_same_place_has_the_same_noise_however_it_is_asked_for() -> None:
    octaves = Octaves(24, 5, 0.5, 7)
    whole = fractal((80, 90), plain_spots(100, 500, 2.0), octaves, 2.0)
    part = fractal((30, 20), plain_spots(100 + 2 * 40, 500 - 2 * 10, 2.0), octaves, 2.0)
    assert np.allclose(part, whole[10:40, 40:60], atol=2e-5)
    other = fractal((80, 90), plain_spots(100, 500, 2.0), Octaves(24, 5, 0.5, 8), 2.0)
    assert abs(np.corrcoef(whole.ravel(), other.ravel())[0, 1]) < 0.3


def test_waves_that_the_grid_cannot_hold_are_left_out() -> None:
    many = fractal((64, 64), plain_spots(0, 0, 1), Octaves(8, 12, 1.0, 1), 1.0)
    few = fractal((64, 64), plain_spots(0, 0, 1), Octaves(8, 3, 1.0, 1), 1.0)
    assert np.allclose(many, few * 3 / 12, atol=1e-5)


def test_roughen_gives_a_place_the_same_noise_however_often_it_passes() -> None:
    tool = GROUND_TOOLS["roughen"]
    values = {**tool.first, "height_m": 4.0, "feature_m": 20.0}
    weights = weight_window((90, 90), Touch(45, 45, 40, 0.6, 1))
    lands = []
    for dabs in (1, 3, 40):
        heights = np.full((90, 90), 50, np.float32)
        covered = np.zeros_like(heights)
        for serial in range(dabs):
            amount = 8.0 if dabs > 1 else 4.0
            roughen(Pressing(heights, weights, amount, 1.0, values, 0, plain_spots(0, 0, 1), covered, serial))
        lands.append(heights)
    noise = fractal((90, 90), plain_spots(0, 0, 1), Octaves(20, 5, 0.5, 1), 1.0)
    full = weights >= 1
    for land in lands:
        assert np.allclose(land[full], 50 + 4 * noise[full], atol=1e-3)
    # Forty passes come to the whole noise wherever the brush reaches at all, and never past it.
    assert np.abs(lands[2] - 50).max() <= 4
    assert (lands[0][weights == 0] == 50).all()


def test_turned_posts_see_the_same_noise_as_straight_ones() -> None:
    """A turned or mirrored array reads the field at its own places."""
    octaves = Octaves(24, 5, 0.5, 7)
    straight = fractal((60, 60), plain_spots(40, 90, 1.5), octaves, 1.5)
    # A quarter turn: columns run north, rows east.
    turned = fractal((60, 60), Spots(40, 90 - 59 * 1.5, 0, 1.5, 1.5, 0), octaves, 1.5)
    assert np.allclose(turned, np.rot90(straight, -1), atol=1e-5)
    mirrored = fractal((60, 60), Spots(40 + 59 * 1.5, 90, -1.5, 0, 0, -1.5), octaves, 1.5)
    assert np.allclose(mirrored, straight[:, ::-1], atol=1e-5)
