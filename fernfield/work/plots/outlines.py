"""Polygons as people draw them: whether one is whole, and what it holds."""

from __future__ import annotations

from collections.abc import Sequence

import shapely

from fernfield.core.errors import InvalidInput


def check_outline(points: Sequence[tuple[float, float]], field: str) -> None:
    """Raises InvalidInput, with the place, for an outline that crosses itself or encloses nothing. [m]"""
    polygon = shapely.Polygon(points)
    if polygon.convex_hull.area <= 0:
        raise InvalidInput("an outline must enclose some ground: its corners lie in one line", field)
    if polygon.is_valid:
        return
    why = shapely.is_valid_reason(polygon)
    place = why.partition("[")[2].rstrip("]").split()
    at = f" near E {float(place[0]):.0f} N {float(place[1]):.0f}" if len(place) == 2 else ""
    raise InvalidInput(f"an outline must not cross itself: this one does{at}", field)


def holds_point(points: Sequence[tuple[float, float]], x: float, y: float) -> bool:
    """Whether a polygon holds a point; its edge belongs to it."""
    polygon = shapely.Polygon(points)
    return bool(shapely.make_valid(polygon).intersects(shapely.Point(x, y)))
