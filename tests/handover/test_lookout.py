"""What the checks found is kept, and is what they would find anew; a check looks again only where something changed."""

from __future__ import annotations

from pathlib import Path
from shutil import copytree

from fernfield.core.brush.pace import Sample
from fernfield.work.house import HOUSE
from fernfield.work.kernel.checking import Check, Lookout
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio

CHECKS = [check for room in HOUSE.rooms for check in room.checks]
STROKE = {"radius_m": 20, "softness": 0.5, "strength": 4, "path": [(400, 400, 0), (410, 400, 1)]}
EDITS = (
    ("raise", STROKE), ("lower", {**STROKE, "radius_m": 60, "strength": 20}), ("undo", {}),
    ("things", {"sort": "piece", "kit": "stone_barn", "name": "New", "x": 420, "y": 380}),
    ("plots", {"name": "Off", "points": [[20, 20], [60, 20], [60, 50]]}), ("undo", {}), ("undo", {}),
)  # fmt: skip


def found(lookout: Lookout, world: OpenWorld) -> dict[str, tuple[object, ...]]:
    return {check.name: some for check, some in lookout.found(world, CHECKS)}


def test_what_is_kept_is_what_would_be_found_anew(demo_data: Path, tmp_path: Path) -> None:
    studio = Studio(Path(copytree(demo_data, tmp_path / "data")))
    try:
        world = next(one for one in studio.worlds() if one.rows["mixes"])
        lookout = Lookout()
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
            assert lookout.looks - at < from_nothing, what
            assert every == found(Lookout(), world), what
            changed |= {name for name in every if every[name] != before[name]}
        # What was edited did make a difference to what is found.
        assert changed
    finally:
        studio.close()


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
