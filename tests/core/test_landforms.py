"""Landforms: whole, without seams or spikes, each unlike the others, and rough as nature is."""

from __future__ import annotations

import itertools
import re
from pathlib import Path

import numpy as np
import pytest

from fernfield.core.drawing.overlays import spikes
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.landforms.patches import Landscape, land, patch_shares
from tests.core.landform_figures import SPACING, figures, made, places

TABLE = Path(__file__).parents[2] / "docs" / "landforms.md"


def stated() -> dict[str, dict[str, float]]:
    """The figures in the docs' table, by the landform's name."""
    found = {}
    for line in TABLE.read_text().splitlines():
        if cells := re.match(r"\| `(\w+)` \|[^|]*\| ([\d.]+) \| ([\d.]+) \| ([\d.]+) \| ([\d.]+) \|", line):
            names = ("relief", "slope", "flat", "drainage")
            found[cells[1]] = dict(zip(names, map(float, cells.groups()[1:]), strict=True))
    return found


def test_the_eleven_landforms_that_were_promised_are_there() -> None:
    assert list(LANDFORMS) == [
        "fen", "moor", "downs", "fells", "crags", "dunes", "gorge", "shore", "island", "basin", "plateau",
    ]  # fmt: skip
    for name, form in LANDFORMS.items():
        assert form.name == name
        assert form.words.endswith(".")
        assert form.relief in form.first
        for setting in form.settings:
            assert setting.first is not None
            setting.check(setting.first)


@pytest.mark.parametrize("name", list(LANDFORMS))
def test_a_landform_is_finite_without_spikes_and_has_the_figures_of_the_docs(name: str) -> None:
    heights = made(name)
    assert heights.dtype == np.float32
    assert np.isfinite(heights).all()
    assert len(spikes(heights, SPACING)) == 0
    found, table = figures(heights), stated()[name]
    assert found["relief"] == pytest.approx(table["relief"], rel=0.02, abs=0.1)
    assert found["slope"] == pytest.approx(table["slope"], rel=0.02, abs=0.1)
    assert found["flat"] == pytest.approx(table["flat"], abs=1.5)
    assert found["drainage"] == pytest.approx(table["drainage"], rel=0.05, abs=0.3)


def test_each_landform_differs_from_the_others_by_its_figures() -> None:
    table = stated()
    assert list(table) == list(LANDFORMS)
    for a, b in itertools.combinations(table, 2):
        apart = [
            abs(table[a][k] - table[b][k]) / max(table[a][k], table[b][k], 1.0) for k in ("relief", "slope", "drainage")
        ]
        assert max(apart) > 0.25, (a, b)


@pytest.mark.parametrize("name", list(LANDFORMS))
def test_land_made_in_parts_is_the_land_made_at_once(name: str) -> None:
    """No seam: a height depends on its place alone, to the last bit."""
    x, y = places(120, 5.0)
    form = LANDFORMS[name]

    def part(rows: slice, cols: slice) -> np.ndarray:
        return form.make(Ground(x[rows, cols], y[rows, cols], (300, 300), 300, 5), form.first)

    whole = part(slice(None), slice(None))
    halves = [[part(r, c) for c in (slice(0, 47), slice(47, None))] for r in (slice(0, 61), slice(61, None))]
    assert np.array_equal(np.block(halves), whole)
    assert not np.array_equal(whole, form.make(Ground(x, y, (300, 300), 300, 6), form.first))


def test_settings_do_what_they_say() -> None:
    x, y = places(200, 5.0)
    ground = Ground(x, y, (500, 500), 500, 3)
    for name, form in LANDFORMS.items():
        low, high = (form.make(ground, {**form.first, form.relief: form.first[form.relief] * k}) for k in (1, 2))
        assert np.ptp(high) > 1.15 * np.ptp(low), name
    dunes = LANDFORMS["dunes"]
    across = dunes.make(ground, {**dunes.first, "wind_deg": 90.0})
    # Blown towards the east: steeper down to the east than up from the west.
    east = np.diff(across, axis=1)
    assert -east.min() > 1.5 * east.max()
    shore = LANDFORMS["shore"].make(ground, {**LANDFORMS["shore"].first, "sea_deg": 90.0})
    assert shore[:, -1].mean() < -10
    assert shore[:, 0].mean() > 5


def test_fells_are_as_rough_as_natural_land() -> None:
    """The power spectrum of profiles falls as the wave number to the power of -beta, about 2 for natural land:
    J. Huang and D. L. Turcotte (1989), Fractal mapping of digitized images, J. Geophys. Res. 94, 7491-7495, and D. L.
    Turcotte (1997), Fractals and Chaos in Geology and Geophysics, chapter 7; from memory, fractal dimensions of
    1.2 to 1.6 and so beta of 1.8 to 2.6 for most areas."""
    slopes = []
    for seed in range(4):
        heights = made("fells", seed, side=1025, spacing=6.0).astype(float)
        profiles = heights - heights.mean(axis=1, keepdims=True)
        power = (np.abs(np.fft.rfft(profiles * np.hanning(1025), axis=1)) ** 2).mean(axis=0)
        wave = np.fft.rfftfreq(1025, 6.0)
        # From the size of the ridges to eight posts.
        band = (wave > 1 / 1200) & (wave < 1 / 48)
        slopes.append(np.polyfit(np.log(wave[band]), np.log(power[band]), 1)[0])
    assert -2.6 < np.mean(slopes) < -1.8
    # Downs are smoother by far.
    smooth = made("downs", 1, side=1025, spacing=6.0).astype(float)
    power = (np.abs(np.fft.rfft((smooth - smooth.mean()) * np.hanning(1025), axis=1)) ** 2).mean(axis=0)
    assert np.polyfit(np.log(wave[band]), np.log(power[band]), 1)[0] < -3


def test_patches_take_their_share_and_blend() -> None:
    x, y = places(400, 20.0)
    ground = Ground(x, y, (4000, 4000), 4000, 11)
    scapes = [Landscape("fen", 1, 500, LANDFORMS["fen"].first), Landscape("fells", 3, 500, LANDFORMS["fells"].first)]
    shares = patch_shares(ground, scapes, 100)
    assert np.allclose(shares.sum(axis=0), 1, atol=1e-5)
    assert shares[1].mean() == pytest.approx(0.75, abs=0.08)
    # Mostly one or the other, and between them a seam as wide as the blend.
    mixed = (shares[0] > 0.05) & (shares[0] < 0.95)
    assert 0.02 < mixed.mean() < 0.35
    step = np.abs(np.diff(shares[0], axis=1)).max()
    assert step < 0.75
    whole = land(ground, scapes, 100)
    alone = [land(ground, [one], 100) for one in scapes]
    assert np.allclose(whole[shares[0] == 1], alone[0][shares[0] == 1], atol=1e-4)
    assert np.allclose(land(ground, scapes, 100, 0.5), whole / 2, atol=1e-4)
