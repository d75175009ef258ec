"""What the checks found is kept, and is what they would find anew; a check looks again only where something changed."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from shutil import copytree

import pytest

from fernfield.core.brush.pace import Sample
from fernfield.work.growth.findings import PLANTS
from fernfield.work.house import HOUSE
from fernfield.work.kernel.checking import ByTile, Check, Lookout
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.posts.tiles import TileCache
from fernfield.work.kernel.rows import Row
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio

CHECKS = [check for room in HOUSE.rooms for check in room.checks]
BY_TILE = [check for check in CHECKS if isinstance(check.find, ByTile)]
STROKE = {"radius_m": 20, "softness": 0.5, "strength": 4, "path": [(400, 400, 0), (410, 400, 1)]}
EDITS = (
    ("lower", {**STROKE, "radius_m": 60, "strength": 20}), ("undo", {}),
    ("things", {"sort": "piece", "kit": "stone_barn", "name": "New", "x": 420, "y": 380}),
    ("lines", {"name": "Way", "points": [[60, 60], [900, 900], [60, 900], [900, 60]]}),
)  # fmt: skip


@pytest.fixture(scope="module")
def studio_of_demo(demo_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Studio]:
    made = Studio(Path(copytree(demo_data, tmp_path_factory.mktemp("lookout") / "data")))
    yield made
    made.close()


@pytest.fixture
def demo(studio_of_demo: Studio) -> OpenWorld:
    return next(one for one in studio_of_demo.worlds() if one.rows["mixes"])


class Rows(dict[str, dict[str, Row]]):
    """The rows of a world, which know of which collections they were asked."""

    asked: set[str]

    def __getitem__(self, name: str) -> dict[str, Row]:
        self.asked.add(name)
        return super().__getitem__(name)


def test_a_check_reads_what_it_says(demo: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    """What it does not say would not be looked at again: a finding would stay that is no longer true."""
    layers, unsaid, tile = set[str](), dict[str, set[str]](), TileCache.tile
    monkeypatch.setattr(TileCache, "tile", lambda cache, place: layers.add(place[0]) or tile(cache, place))
    for check in CHECKS:
        # Of a world that was just opened nothing is known that hides what it was made of.
        world = OpenWorld(HOUSE, demo.store, demo.id)
        world.rows = rows = Rows(world.rows)
        rows.asked = set()
        layers.clear()
        list(Lookout().found(world, [check]))
        near = {"things"} if check.find is PLANTS else set()
        read = rows.asked - {*check.reads.row_names(world), *near}
        read |= {layer for layer in layers if not check.reads.reads_layer(layer)}
        if read:
            unsaid[check.name] = read
    assert not unsaid


def found(lookout: Lookout, world: OpenWorld) -> dict[str, tuple[object, ...]]:
    return {check.name: some for check, some in lookout.found(world, BY_TILE)}


def test_what_is_kept_is_what_would_be_found_anew(demo: OpenWorld) -> None:
    world, lookout = demo, Lookout()
    every = found(lookout, world)
    from_nothing = lookout.looks
    assert found(lookout, world) == every
    assert lookout.looks == from_nothing
    changed = set()
    for what, fields in EDITS:
        before, at = every, lookout.looks
        if what == "undo":
            world.undo()
        elif collection := HOUSE.collections.get(what):
            world.edit(put(collection, "new", collection.checked(fields)))
        else:
            world.stroke(world.first_tract.row.id, Stroke(tool=what, **fields))
        every = found(lookout, world)
        # A line may lie anywhere: what grows is looked at everywhere.
        assert what == "lines" or lookout.looks - at < from_nothing, what
        assert every == found(Lookout(), world), what
        changed |= {name for name in every if every[name] != before[name]}
    # What was edited did make a difference to what is found.
    assert "growth" in changed


def test_what_is_seen_while_somebody_draws_is_not_kept(studio: Studio, world: OpenWorld) -> None:
    seen: list[float] = []

    def find(world: OpenWorld) -> tuple[()]:
        seen.append(round(world.first_land.elevation(40, 30), 3))
        return ()

    lookout, tract = Lookout(), world.first_tract.row.id
    run = world.begin_stroke(tract, Stroke(tool="raise", radius_m=9, softness=0.5, strength=5, path=[(40, 30, 0)]))
    world.extend_stroke(run, [Sample(40, 30, 0), Sample(45, 30, 0.5), Sample(50, 30, 1)])
    for _ in range(2):
        list(lookout.found(world, [Check("own", find)]))
    world.abandon_stroke(run)
    for _ in range(2):
        list(lookout.found(world, [Check("own", find)]))
    assert (len(seen), seen[0] > 10, seen[1] > 10, seen[2:]) == (3, True, True, [10])
