"""Who gets where on a land: kept until what it reads changes there, and not longer."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import Window
from fernfield.core.travel.walkers import WALKER
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.sites.rows import THINGS, Piece
from fernfield.work.studio import Studio
from tests.conftest import draw


def test_it_is_kept_until_what_it_reads_changes_there(studio: Studio, world: OpenWorld) -> None:
    window = Window(20, 20, 80, 80)

    def ways(of: OpenWorld = world) -> np.ndarray:
        return passable_in(of, of.first_land, window, WALKER)

    level = ways()
    assert (level == 255).all()
    draw(world, path=[(270, 20, 0), (270, 30, 1)], radius_m=10)
    assert ways() is level, "ground that is raised elsewhere"
    draw(world, path=[(50, 250, 0), (50, 250, 1)], radius_m=10, strength=60, softness=0.1)
    raised = ways()
    assert (raised == 0).any()
    world.edit(put(THINGS, "barn", Piece(kit="stone_barn", name="Barn", x=70, y=230)))
    assert (ways() == 0).sum() > (raised == 0).sum()
    # A world that is opened again counts its changes anew, and is no other's.
    again = OpenWorld(studio.house, studio.store, world.id)
    assert np.array_equal(ways(again), ways())
    assert not passable_in(world, world.first_land, Window(0, 0, 301, 301), WALKER)[0, 0].any(), "over the north edge"
