"""Where a player starts."""

import pytest

from fernfield.core.errors import NotFound
from fernfield.work.kernel.commands import put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.rows import THINGS, Start, things_of


def test_the_first_start_is_the_default_and_there_is_never_more_than_one(world: OpenWorld) -> None:
    def place(key: str, **fields: object) -> None:
        world.edit(put(THINGS, key, Start.model_validate({"name": key, "x": 10, "y": 10, **fields})))

    place("a")
    place("b")
    assert [isinstance(t, Start) and t.default for _, t in things_of(world)] == [True, False]
    place("b", default=True, x=20)
    assert [isinstance(t, Start) and t.default for _, t in things_of(world)] == [False, True]
    world.undo()
    assert [isinstance(t, Start) and t.default for _, t in things_of(world)] == [True, False]
    world.edit(remove(THINGS, "a"))
    with pytest.raises(NotFound, match="there is no 'a' among the things of this world; there is b"):
        world.edit(remove(THINGS, "a"))
