"""The checks before a handover: what grave it, and where it is."""

import pytest

from fernfield.core.checks.finding import Standing
from fernfield.core.checks.starts import STEEPEST_DEG, WADE_M, default_start, drowned_starts, steep_starts


def start(**fields: object) -> Standing:
    values = {"name": "A", "sort": "start", "x": 3, "y": 4, "depth": 0, "slope_deg": 0, "default": True, "tract": "t"}
    return Standing(**{**values, **fields})  # type: ignore[arg-type]


def test_a_world_needs_a_start_that_is_the_default() -> None:
    piece = start(sort="piece")
    for things, words in (([], "no start"), ([piece], "no start"), ([start(default=False)], "default")):
        found = list(default_start(things))
        assert [words in finding.words for finding in found] == [True]
        assert found[0].grave
    assert list(default_start([start(default=False), start()])) == []


@pytest.mark.parametrize(("find", "field", "most", "grave"), [
    (drowned_starts, "depth", WADE_M, True), (steep_starts, "slope_deg", STEEPEST_DEG, False),
])  # fmt: skip
def test_a_start_under_water_grave_a_handover_and_one_on_a_cliff_is_told(find, field, most, grave) -> None:  # type: ignore[no-untyped-def]
    assert list(find([start(**{field: most}), start(sort="piece", **{field: 99.0})])) == []
    found = list(find([start(**{field: most + 0.1})]))
    assert [(f.grave, f.x, f.y, f.tract) for f in found] == [(grave, 3, 4, "t")]
