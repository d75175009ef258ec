"""A veil brings a cover to one share; grains and patches are where they are, whoever looks."""

from __future__ import annotations

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.stats import norm

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.cover.patterns import grains, patches
from fernfield.core.cover.shares import SOLID, compose_shares, shares_as_bytes
from fernfield.core.cover.soften import soften
from fernfield.core.cover.veil import veil
from fernfield.core.errors import InvalidInput
from fernfield.core.noise import Spots, plain_spots
from fernfield.web.rooms.cover import routes
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.strokes import StrokeStart
from tests.conftest import draw
from tests.cover.test_shares import shares_at

SHAPE = (4, 5)
MASKS = arrays(np.uint16, (3, *SHAPE), elements=st.integers(0, SOLID))
WEIGHTS = arrays(np.float32, SHAPE, elements=st.floats(0, 1, width=32))
SHARES = st.floats(0, 1)
NEAR = 2.5 * 4 / SOLID
"""What 16-bit numbers of three covers can say of a share."""


def veiled(masks: np.ndarray, at: int, weights: np.ndarray, share: float) -> np.ndarray:
    """The masks after a veil of the cover `at` (0 is the base), in plain order."""
    whole = np.concatenate([np.zeros_like(masks[:1]), masks])
    veil(MaskPressing(whole, at == 0, weights, 1.0, {"share": share}, 1.0, whole, at))
    return whole[1:]


def shares_of(masks: np.ndarray) -> np.ndarray:
    return compose_shares(list(masks), [None] * len(masks), masks.shape[1:]).astype(np.float64)


@given(MASKS, WEIGHTS, SHARES, st.integers(0, 3))
@settings(max_examples=150, deadline=None)
def test_a_veil_moves_a_share_by_the_least_that_its_weight_asks_for(
    masks: np.ndarray, weights: np.ndarray, share: float, at: int
) -> None:
    """Against its definition in plain NumPy; the others keep their proportions, and all add up."""
    before, after = shares_of(masks), shares_of(veiled(masks, at, weights, share))
    wanted = np.clip(before[at], share * weights, 1 - (1 - share) * weights)
    stuck = (at == 0) & (before[0] >= 1 - NEAR)
    assert np.allclose(after[at], np.where(stuck, after[at], wanted), atol=NEAR)
    assert np.allclose(after.sum(axis=0), 1, atol=1e-5)
    assert (shares_as_bytes(after.astype(np.float32)).astype(int).sum(axis=0) == 255).all()
    others = [k for k in range(4) if k != at]
    rest = before[others].sum(axis=0)
    part = np.divide(1 - after[at], rest, out=np.zeros(SHAPE), where=rest > 1e-3)
    for k in others:
        assert np.allclose(np.where(rest > 1e-3, after[k], 0), before[k] * part * (rest > 1e-3), atol=4 * NEAR)
    # Where nothing weighs nothing changes, to the byte.
    assert np.array_equal(after[:, weights == 0], before[:, weights == 0])


@given(MASKS, WEIGHTS, WEIGHTS, SHARES, st.integers(0, 3))
@settings(max_examples=150, deadline=None)
def test_a_veil_laid_twice_is_the_veil_laid_once(
    masks: np.ndarray, weights: np.ndarray, others: np.ndarray, share: float, at: int
) -> None:
    """Byte for byte; and of two dabs the heavier counts, in whichever order they come."""
    once = veiled(masks, at, weights, share)
    assert np.array_equal(veiled(once, at, weights, share), once)
    both = shares_of(veiled(veiled(masks, at, weights, share), at, others, share))[at]
    heavier = shares_of(veiled(masks, at, np.maximum(weights, others), share))[at]
    assert np.allclose(both, heavier, atol=2 * NEAR)


def test_72_of_255_is_28_percent_however_often_one_passes(world: OpenWorld) -> None:
    """A fact of the trade, common practice."""
    path = [(60, 100, 0), (140, 100, 1), (60, 100, 2), (140, 100, 3)]
    draw(world, "paint", cover="earth", path=[(60, 100, 0), (140, 100, 1)], strength=900, softness=0)
    for _ in range(2):
        draw(world, "veil", cover="path", share=72 / 255, path=path, softness=0)
        found = {name: share for name, share in shares_at(world, 100, 100).items() if share > 0}
        assert found == pytest.approx({"Path": 72 / 255, "Earth": 183 / 255}, abs=0.001)
    # As long or short as it takes, and whatever it is told of strength.
    draw(world, "veil", cover="path", share=0.5, path=[(100, 100, 0)], softness=0, strength=5)
    assert shares_at(world, 100, 100)["Path"] == pytest.approx(0.5, abs=0.001)
    # The base is a cover like the others, down to where nothing else lies.
    draw(world, "veil", cover="grass", share=0.25, path=[(100, 100, 0)], softness=0)
    found = shares_at(world, 100, 100)
    assert found["Grass"] == pytest.approx(0.25, abs=0.001)
    assert found["Path"] == pytest.approx(found["Earth"], abs=0.002)


def test_a_veil_that_is_undone_leaves_every_byte_as_it_was(world: OpenWorld) -> None:
    draw(world, "paint", cover="path", path=[(60, 100, 0), (140, 100, 1)], strength=70)
    tract = world.first_land
    was = {layer: tract.read(layer, tract.grid.window).copy() for layer in ("cover:path", "cover:earth")}
    draw(world, "veil", cover="earth", share=0.6, path=[(60, 90, 0), (140, 110, 1)])
    assert not np.array_equal(tract.read("cover:earth", tract.grid.window), was["cover:earth"])
    world.undo()
    for layer, mask in was.items():
        assert np.array_equal(tract.read(layer, tract.grid.window), mask)


VALUES = {"grain_m": 7.0, "variability": 0.5, "seed": 3}


@pytest.mark.parametrize("pattern", [grains, patches])
def test_a_part_of_a_pattern_is_as_in_the_whole(pattern: object) -> None:
    """The same place has the same pattern, in whatever window it is worked out, west and south of the origin too."""
    whole = pattern((80, 90), plain_spots(-40, 30, 1.0), VALUES, 1.0)  # type: ignore[operator]
    part = pattern((20, 30), plain_spots(-40 + 17, 30 - 11, 1.0), VALUES, 1.0)  # type: ignore[operator]
    assert np.allclose(part, whole[11:31, 17:47], atol=1e-5)
    assert ((whole >= 0) & (whole <= 1)).all()
    other = pattern((80, 90), plain_spots(-40, 30, 1.0), {**VALUES, "seed": 4}, 1.0)  # type: ignore[operator]
    assert np.abs(whole - other).mean() > 0.05
    # Turned with a symmetry: the pattern comes along.
    turned = pattern((90, 80), Spots(-40, 30, 0.0, -1.0, 1.0, 0.0), VALUES, 1.0)  # type: ignore[operator]
    assert np.allclose(turned, whole.T, atol=1e-5)


def test_grains_are_as_large_as_they_are_said_to_be() -> None:
    """One in every square: with no variability a disc of 0.72 of its side, so 0.36² times pi of the ground."""
    even = grains((600, 600), plain_spots(0, 0, 1.0), {"grain_m": 24.0, "variability": 0.0, "seed": 1}, 1.0)
    assert even.mean() == pytest.approx(np.pi * 0.36**2, rel=0.02)
    varied = grains((600, 600), plain_spots(0, 0, 1.0), {"grain_m": 24.0, "variability": 1.0, "seed": 1}, 1.0)
    # Radii of 0.36 (1 - u), u even from 0 to 1: a third of the area on the mean.
    assert varied.mean() == pytest.approx(np.pi * 0.36**2 / 3, rel=0.12)


def test_patches_become_more_and_more_torn_with_variability() -> None:
    def cover(varies: float) -> tuple[float, float]:
        found = patches((600, 600), plain_spots(0, 0, 1.0), {"grain_m": 24.0, "variability": varies, "seed": 1}, 1.0)
        edges = np.abs(np.diff((found > 0.5).astype(int), axis=1)).sum()
        return float(found.mean()), edges / max((found > 0.5).sum(), 1)

    few, half, many = cover(0.0), cover(0.5), cover(1.0)
    assert 0.02 < few[0] < half[0] < many[0] < 0.95


def test_speckle_and_blotch_paint_only_where_their_pattern_is(world: OpenWorld) -> None:
    tract = world.first_land
    for tool, cover in (("speckle", "earth"), ("blotch", "path")):
        for _ in range(2):
            draw(world, tool, cover=cover, grain_m=9, path=[(70, 100, 0), (130, 100, 2)], strength=900, softness=0)
        mask = tract.read(f"cover:{cover}", tract.grid.window)
        own = {"grain_m": 9.0, "variability": 0.5, "seed": 1}
        spots = plain_spots(tract.grid.x_of(0), tract.grid.y_of(0), tract.grid.spacing)
        wanted = {"speckle": grains, "blotch": patches}[tool](mask.shape, spots, own, tract.grid.spacing)
        assert (mask[wanted == 0] == 0).all()
        assert (mask > 0).any()
        assert mask.max() == SOLID


def test_what_a_tool_does_not_have_is_refused() -> None:
    said = {"radius_m": 10, "softness": 0.5, "strength": 50, "cover": "path"}
    with pytest.raises((InvalidInput, ValueError), match=r"share must be 0 to 1, not 28"):
        StrokeStart(tool="veil", share=28, **said)  # type: ignore[arg-type]
    with pytest.raises((InvalidInput, ValueError), match=r"grain_m goes with speckle or blotch, not with veil"):
        StrokeStart(tool="veil", grain_m=3, **said)  # type: ignore[call-arg]


@pytest.mark.parametrize("width", [5.0, 12.0, 30.0])
def test_a_sharp_border_becomes_as_wide_as_soften_is_told(width: float) -> None:
    """A half-plane blurred by a Gaussian is the normal distribution (SciPy's): 10 to 90 % over the stated width."""
    half = np.zeros((1, 40, 160), np.uint16)
    half[:, :, 80:] = SOLID
    masks, weights = half.copy(), np.ones(half.shape[1:], np.float32)
    for _ in range(12):
        soften(MaskPressing(masks, False, weights, 0.6, {"width_m": width}, 1.0, half))
    sigma = width / (2 * norm.ppf(0.9))
    x = np.arange(160) - 79.5
    assert masks[0, 20] / SOLID == pytest.approx(norm.cdf(x / sigma), abs=0.012)
    tenth, most = np.interp([0.1, 0.9], masks[0, 20] / SOLID, x)
    assert most - tenth == pytest.approx(width, rel=0.08)


def test_a_stroke_softens_no_further_however_long_it_is_held(world: OpenWorld) -> None:
    draw(world, "paint", cover="earth", path=[(100, 100, 0), (100, 100, 1)], strength=1000, softness=0, radius_m=60)
    land, found = world.first_land, []
    for seconds in (3, 9):
        path = [(160, 100, 0), (160, 100, seconds)]
        draw(world, "soften", width_m=8, path=path, strength=900, radius_m=35, softness=0)
        found.append(land.read("cover:earth", land.grid.window).astype(int))
        world.undo()
    assert np.abs(found[0] - found[1]).max() <= 3
    assert len(np.unique(found[0])) > 20
    # Whether the land is softened in one window or another: west and east of a tile's edge as in the middle of one.
    assert found[0].sum() == pytest.approx(land.read("cover:earth", land.grid.window).astype(int).sum(), rel=0.01)


def test_the_shares_of_every_cover_by_the_api(client: TestClient) -> None:
    spec = {"name": "Small", "width_m": 300, "depth_m": 200, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    made = client.post("/api/worlds", json=spec).json()
    tract = made["tracts"][0]["id"]
    stroke = {"tool": "veil", "cover": "path", "share": 0.4, "radius_m": 30, "softness": 0.5, "strength": 100}
    said = client.post(f"/api/tracts/{tract}/strokes", json={**stroke, "path": [[50, 60, 0], [90, 60, 1]]})
    assert said.status_code == 200, said.text
    box = {"row0": 100, "col0": 20, "row1": 181, "col1": 141}

    def planes(**more: int) -> tuple[np.ndarray, list[str]]:
        answer = client.get(f"/api/tracts/{tract}/cover-shares", params={**box, **more})
        assert answer.status_code == 200, answer.text
        shape = [int(n) for n in answer.headers["x-shape"].split(",")]
        return np.frombuffer(answer.content, np.uint8).reshape(shape), answer.headers["x-covers"].split(",")

    found, keys = planes()
    assert found.shape == (len(keys), 81, 121)
    assert keys[0] == "grass"
    assert (found.sum(axis=0, dtype=int) == 255).all()
    # Row 140 lies at N 60: the middle of the stroke has the stated share.
    assert found[keys.index("path"), 40, 40] == round(0.4 * 255)
    coarse, _ = planes(step=4)
    assert np.array_equal(coarse, found[:, ::4, ::4])
    # In bands or at once: more rows than a band has.
    tall, _ = planes(row0=0, row1=201)
    assert np.array_equal(tall[:, 100:181], found)
    by_land = client.get(f"/api/lands/{tract}/cover-shares", params=box)
    assert by_land.content == found.tobytes()
    assert client.get(f"/api/tracts/{tract}/cover-shares", params={**box, "step": 0}).status_code == 422
    assert client.get("/api/tracts/t0/cover-shares", params=box).status_code == 404


def test_more_shares_than_may_be_asked_for_at_once(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    spec = {"name": "Small", "width_m": 300, "depth_m": 200, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    tract = client.post("/api/worlds", json=spec).json()["tracts"][0]["id"]
    monkeypatch.setattr(routes, "MOST_SHARES", 4 * 60 * 60)
    answer = client.get(f"/api/tracts/{tract}/cover-shares", params={"row0": 0, "col0": 0, "row1": 61, "col1": 61})
    assert answer.status_code == 422
    assert "at most 3600 posts of 4 covers" in answer.text
    assert "3721" in answer.text


def test_soften_leaves_blank_covers_blank(world: OpenWorld) -> None:
    draw(world, "soften", width_m=8, path=[(100, 100, 0), (120, 100, 1)], strength=900)
    assert all(world.first_land.blank(layer, world.first_land.grid.window) for layer in ("cover:earth", "cover:path"))
