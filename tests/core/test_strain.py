"""Landforms state what they bear: what is asked beyond it is told in figures, and can be widened."""

import numpy as np
import pytest

from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.landforms.patches import Landscape, land
from fernfield.core.landforms.strain import strain
from fernfield.core.light.relief import slope_degrees
from tests.core.landform_figures import made, places


def steep(heights: np.ndarray, spacing: float) -> float:
    return float(np.percentile(slope_degrees(heights.astype(np.float32), spacing), 95))


@pytest.mark.parametrize("name", LANDFORMS)
def test_a_landform_bears_its_own_first_settings(name: str) -> None:
    own = strain(name, LANDFORMS[name].first)
    assert own.borne
    assert own.times == 1
    # The sample has another seed: it says about what the land itself has.
    assert own.steep_deg == pytest.approx(steep(made(name), 4.0), abs=max(7.0, 0.35 * own.steep_deg))


def test_a_fen_of_120_m_is_told_and_widened_to_what_it_bears() -> None:
    first = LANDFORMS["fen"].first
    scale = 120 / first["relief_m"]
    own = strain("fen", first, scale)
    assert own.steep_deg > 60
    assert not own.borne
    # Tangents grow as heights do: 15° is borne.
    plain = strain("fen", first)
    tangent = np.tan(np.radians([own.steep_deg, plain.steep_deg]))
    assert tangent[0] / tangent[1] == pytest.approx(scale, rel=1e-6)
    assert own.times == pytest.approx(tangent[0] / np.tan(np.radians(15)), rel=1e-6)
    # Made as many times wider, on a region as many times wider, it is what it bears.
    spacing = 4.0 * own.times
    x, y = places(513, spacing)
    middle = 256 * spacing
    ground = Ground(x, y, (middle, middle), middle, 1)
    wide = land(ground, [Landscape("fen", 1, 400, first, own.times)], 0, scale)
    assert steep(wide, spacing) == pytest.approx(15, abs=1)
    narrow = land(ground.widened(1), [Landscape("fen", 1, 400, first)], 0, scale)
    assert steep(narrow, spacing) > 25


def test_dunes_are_held_to_the_angle_of_repose_of_dry_sand() -> None:
    """About 34° (common practice)."""
    assert LANDFORMS["dunes"].bears_deg == 34
    assert strain("dunes", {**LANDFORMS["dunes"].first, "relief_m": 60}).times > 2
    assert strain("dunes", {**LANDFORMS["dunes"].first, "relief_m": 60, "spacing_m": 500}).borne


def test_an_island_cannot_be_widened_since_its_region_is_its_width() -> None:
    own = strain("island", LANDFORMS["island"].first, 20)
    assert not own.borne
    assert own.times == 1
