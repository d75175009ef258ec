"""The picture of the plan: what is in the arrays is what is seen."""

import numpy as np
import pytest

from fernfield.core.cover.shares import SOLID, compose_colours
from fernfield.core.drawing.plan import PlanLook, Stamp, draw_plan, draw_stamps, lay_light, shade_stamps
from fernfield.core.light.daylight import SKY_BEARING, Daylight, daylight

GREEN = (120, 150, 90)


def even(colour: tuple[int, int, int], rows: int, cols: int) -> np.ndarray:
    return np.broadcast_to(np.asarray(colour, np.float32)[:, None, None], (3, rows, cols))


def picture(
    heights: np.ndarray, sea_level: float | None = None, contour_m: float = 0.0, *,
    day: Daylight = Daylight(315, 35), sunny: int = 255, ground: np.ndarray | None = None,
) -> np.ndarray:  # fmt: skip
    rows, cols = heights.shape[0] - 2, heights.shape[1] - 2
    heights = heights.astype(np.float32)
    light = daylight(heights, 1.0, np.full((rows, cols), sunny, np.uint8), day)
    colours = even(GREEN, rows, cols) if ground is None else ground
    return draw_plan(heights, 1.0, colours, light, PlanLook(sea_level, contour_m))


def slope(east: float, north: float, size: int = 42) -> np.ndarray:
    rows, cols = np.mgrid[0:size, 0:size]
    return east * cols - north * rows


def test_a_face_to_the_sun_is_brighter_than_one_away() -> None:
    toward = picture(slope(0.3, -0.3))[..., :3].mean()  # falls to the north-west
    level = picture(slope(0, 0))[..., :3].mean()
    away = picture(slope(-0.3, 0.3))[..., :3].mean()
    assert toward > level + 10 > away + 20


def test_water_is_blue_and_deeper_water_darker() -> None:
    shore = picture(slope(0.5, 0), sea_level=10.0)
    deep, shallow, land = shore[20, 2], shore[20, 16], shore[20, 36]
    assert deep[2] > deep[0] + 30
    assert deep[:3].sum() < shallow[:3].sum()
    assert land[2] < land[1]
    # The shoreline, at 10 m or column 20 of the heights, is the darkest line of its row's land.
    assert shore[20, 17:24, :3].sum(axis=1).argmin() in (1, 2, 3)


def test_contours_lie_where_the_elevation_is_a_multiple_of_the_interval() -> None:
    plain, drawn = picture(slope(0.5, 0)), picture(slope(0.5, 0), contour_m=5)
    darker = plain[20, :, :3].astype(int).sum(axis=1) - drawn[20, :, :3].astype(int).sum(axis=1)
    columns = set(np.flatnonzero(darker > 40))
    # 0.5 m a column from 0.5 m at the first pixel: 5, 10, 15 and 20 m are columns 9, 19, 29 and 39.
    assert {9, 19, 29, 39} <= columns <= {k + d for k in (-1, 9, 19, 29, 39) for d in (-1, 0, 1)}


def test_covers_mix_by_their_shares_and_shadow_darkens() -> None:
    half = np.full((10, 10), SOLID // 2 + 1, np.uint16)
    ground = compose_colours([half, None], [None, None], [(200, 0, 0), (0, 0, 200), (9, 9, 9)], (10, 10))
    assert ground[:, 5, 5] == pytest.approx((100, 0, 100), abs=0.01)
    flat = np.zeros((12, 12), np.float32)
    mixed = picture(flat, ground=ground)[..., :3].mean(axis=(0, 1))
    assert mixed[0] == pytest.approx(mixed[2], rel=0.05)
    dark = picture(flat, ground=ground, sunny=0)[..., :3].mean()
    assert dark < 0.6 * mixed.mean()


def in_shade(heights: np.ndarray, bearing: float) -> float:
    """How bright the ground is that the sun does not reach."""
    return float(picture(heights, day=Daylight(bearing, 35), sunny=0)[..., :3].mean())


@pytest.mark.parametrize("bearing", [20, 135, 315])
def test_what_the_sun_does_not_reach_shows_its_shape_by_the_sky(bearing: float) -> None:
    """The faces of a hill in shadow differ, whichever way the sun stands, and are the brighter the nearer they look
    to where the sky is brightest; level ground is as bright in any shadow."""
    ways = np.arange(0, 360, 45)
    falls = [slope(-np.sin(np.radians(way)) * 0.7, -np.cos(np.radians(way)) * 0.7) for way in ways]
    bright = [in_shade(heights, bearing) for heights in falls]
    away = np.abs((ways - bearing - SKY_BEARING + 180) % 360 - 180)
    assert np.all(np.diff(np.array(bright)[np.argsort(away, kind="stable")]) <= 0.7)
    assert max(bright) > 1.3 * min(bright)
    assert in_shade(slope(0, 0), bearing) == pytest.approx(in_shade(slope(0, 0), 0), abs=0.01)
    # Nothing in the shade is as bright as level ground in the sun.
    assert max(bright) < 0.8 * picture(slope(0, 0))[..., :3].mean()


def test_stamps_are_drawn_in_place_with_their_shadow_away_from_the_sun() -> None:
    flat = np.zeros((42, 42), np.float32)
    tree = Stamp(np.array([20.0], np.float32), np.array([20.0], np.float32), np.array([3.0], np.float32), (30, 90, 40))
    sown = picture(flat, day=Daylight(270, 35))
    bare = sown.astype(int)
    draw_stamps(sown, [tree], 270)
    changed = np.abs(sown - bare).sum(axis=2) > 8
    rows, cols = np.nonzero(changed)
    assert 16 <= rows.min() <= rows.max() <= 24
    assert cols.max() - 20 > 20 - cols.min()  # the sun is in the west: the shadow falls east
    assert not changed[:10].any()


def test_shapes_that_do_not_fit_are_refused() -> None:
    with pytest.raises(ValueError, match="heights must be"):
        draw_plan(np.zeros((5, 5), np.float32), 1, even(GREEN, 5, 5), None, PlanLook(None, 0))


@pytest.mark.parametrize("deep", [0.4, 2.0, 9.0, 60.0])
def test_water_takes_light_away_by_its_depth(deep: float) -> None:
    """Beer-Lambert, in plain NumPy: what reaches the bottom falls off with depth, as does the water's colour."""
    flat = np.full((12, 12), 10 - deep, np.float32)
    drawn = picture(flat, 10.0, day=Daylight(315, 90))[5, 5, :3].astype(float)
    clear, dim = np.exp(-0.32 * deep) * 0.72, np.exp(-0.045 * deep)
    own = np.array([46, 92, 122]) + np.array([72, 74, 66]) * dim
    assert np.allclose(drawn, np.array(GREEN) * clear + (1 - clear) * own, atol=1.5)


@pytest.mark.parametrize(("bearing", "row", "col"), [(0, 1, 0), (90, 0, -1), (180, -1, 0), (270, 0, 1), (315, 1, 1)])
def test_the_shadow_of_a_stamp_lies_opposite_the_sun_and_its_light_towards_it(
    bearing: float, row: int, col: int
) -> None:
    picture = np.full((61, 61, 4), 200, np.uint8)
    at, size = np.array([30.0], np.float32), np.array([8.0], np.float32)
    draw_stamps(picture, [Stamp(at, at, size, (90, 140, 70))], bearing)
    away = np.array([row, col]) / np.hypot(row, col)

    def at_place(posts: float) -> float:
        r, c = (30 + away * posts).round().astype(int)
        return float(picture[r, c, :3].mean())

    # Shadow ends 0.6 and 1 sizes away; on the other side there is none.
    assert at_place(11) < 120
    assert at_place(-11) == 200
    # The light lies 0.27 sizes towards the sun.
    assert at_place(-3) > at_place(4) + 15


def test_colours_without_light_are_what_light_falls_on() -> None:
    """Light put on a plain picture gives the lit one: on all of land, under water on the bottom's share."""
    heights = np.float32(12 * np.sin(np.arange(62) / 9)[None, :] + 8 * np.cos(np.arange(62) / 7)[:, None])
    day = Daylight(200, 25)
    ground = np.ascontiguousarray(even(GREEN, 60, 60))
    light = daylight(heights, 1.0, np.full((60, 60), 255, np.uint8), day)
    wet = heights[1:-1, 1:-1] < -3
    lit = draw_plan(heights, 1.0, ground, light, PlanLook(-3.0, 0)).astype(int)
    made = draw_plan(heights, 1.0, ground, None, PlanLook(-3.0, 0))
    assert (made[..., 3] < 255).tolist() == wet.tolist()
    lay_light(made, light)
    away = np.abs(made - lit).max(axis=2)
    # The drawn shore is a line of its own; under water the three colours share one number.
    assert away[heights[1:-1, 1:-1] > 1].max() <= 2
    assert away[heights[1:-1, 1:-1] < -5].max() <= 9


def test_growth_takes_the_sun_where_its_shadow_is_drawn() -> None:
    flat, at, size = np.full((61, 61), 255, np.uint8), np.array([30.0], np.float32), np.array([8.0], np.float32)
    drawn = np.full((61, 61, 4), 255, np.uint8)
    crown = Stamp(at, at, size, (250, 250, 250))
    draw_stamps(drawn, [crown], 90)
    shade_stamps(flat, [crown], 90)
    rows, cols = np.nonzero(flat < 128)
    assert cols.mean() == pytest.approx(30 - 0.6 * 8, abs=0.5)
    assert rows.mean() == pytest.approx(30, abs=0.5)
    # Beside the crown both are dark in the same places.
    beside = np.hypot(*(np.mgrid[0:61, 0:61] - 30)) > 9
    assert np.array_equal((drawn[..., 0] < 192) & beside, (flat < 153) & beside)
