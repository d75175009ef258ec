"""The logbook: any revision can be looked at, named and brought back, and its size is bounded."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import text

from fernfield.core.errors import Conflict, NotFound
from fernfield.store.database import migrate, open_database
from fernfield.store.logbook import LogbookStore
from fernfield.work.ground.commands import PutSheet
from fernfield.work.ground.rows import Sheet, sheets_of
from fernfield.work.ground.sheet_edits import put_sheet
from fernfield.work.kernel.commands import put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.sites.rows import THINGS, Piece, things_of
from fernfield.work.studio import Studio
from fernfield.work.water.rows import WATER, Water
from fernfield.work.worlds.rows import name_of
from tests.conftest import draw, everything, ground


def history(world: OpenWorld, count: int, seed: int = 3) -> dict[int, dict[str, bytes]]:
    """Random edits, undos and redos; the state after each revision."""
    rng = random.Random(seed)
    states = {0: everything(world)}
    put_sheet(world, PutSheet(key="one", sheet=Sheet(name="One")))
    states[world.revision] = everything(world)
    while world.revision < count:
        choice = rng.random()
        if choice < 0.5:
            path = [(rng.uniform(0, 300), rng.uniform(0, 300), t / 4) for t in range(2)]
            draw(world, rng.choice(["raise", "lower"]), path=path, radius_m=25, sheet=rng.choice([None, "one"]))
        elif choice < 0.6:
            world.edit(put(WATER, "sea", Water(sea_level_m=rng.uniform(-5, 5))))
        elif choice < 0.7:
            spot = Piece(kit="beacon", name="B", x=rng.uniform(0, 300), y=100)
            world.edit(put(THINGS, f"b{rng.randrange(2)}", spot))
        elif choice < 0.75 and things_of(world):
            world.edit(remove(THINGS, things_of(world)[0][0]))
        elif choice < 0.9 and world.can_undo:
            world.undo()
        elif world.can_redo:
            world.redo()
        states[world.revision] = everything(world)
    return states


def test_any_revision_can_be_looked_at_as_it_was(studio: Studio, world: OpenWorld) -> None:
    states = history(world, 24)
    for number in (0, 1, 5, 11, 17, 23, world.revision):
        assert everything(studio.past(world.id, number)) == states[number]
    assert studio.past(world.id, world.revision) is world
    past = studio.past(world.id, 5)
    assert past.revision == 5
    with pytest.raises(Conflict, match="r5 is of the past"):
        draw(past)
    picture = plan_pixels(past, past.first_land, 0, past.first_tract.grid.window, Show())
    assert picture.shape == (301, 301, 4)
    # The present goes on meanwhile, and the past stays what it was.
    draw(world, "raise", radius_m=80)
    assert everything(studio.past(world.id, 5)) == states[5]
    with pytest.raises(NotFound, match="no revision r999"):
        studio.past(world.id, 999)


def test_a_keepsake_has_a_name_that_stays(studio: Studio, world: OpenWorld) -> None:
    draw(world)
    draw(world, "lower")
    logbook = LogbookStore(studio.store.engine)
    logbook.name(world.id, 1, "Before the flood")
    assert [r.keepsake for r in studio.store.revisions(world.id)] == [None, "Before the flood"]
    logbook.name(world.id, 1, None)
    assert [r.keepsake for r in studio.store.revisions(world.id)] == [None, None]
    with pytest.raises(NotFound, match="no revision r7"):
        logbook.name(world.id, 7, "x")


def test_folding_bounds_the_logbook_and_keeps_what_can_still_be_reached(
    studio: Studio, world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    import fernfield.work.studio as module

    monkeypatch.setattr(module, "KEPT_REVISIONS", 10)
    monkeypatch.setattr(module, "FOLDED_AT_ONCE", 12)
    states = history(world, 70)
    logbook = LogbookStore(studio.store.engine)
    logbook.name(world.id, 33, "Kept")
    size = logbook.size(world.id)
    studio.logbook_bytes = 1
    assert studio.fold(world.id) > 0
    assert logbook.size(world.id) < size
    left = [r.number for r in studio.store.revisions(world.id)]
    assert 33 in left
    assert len(left) < 45
    assert left[:10] == list(range(70, 60, -1))
    # What is there is what it was, and the ground as the world was made is there too.
    for number in [0, *left]:
        assert everything(studio.past(world.id, number)) == states[number], number
    gone = next(n for n in range(1, 60) if n not in left)
    with pytest.raises(NotFound, match=rf"r{gone} was folded together with others into r\d+"):
        studio.past(world.id, gone)
    # Undo goes through all that is left, also after a restart, back to the beginning.
    studio.close()
    again = Studio(studio.data)
    other = again.world(world.id)
    assert everything(other) == states[70]
    while other.can_undo:
        other.undo()
    assert everything(other) == states[0]
    again.close()


def test_what_is_undone_and_can_be_made_again_is_not_folded_away(
    studio: Studio, world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Twelve strokes, ten of them undone: the oldest undos lie outside what is kept, their strokes can be redone."""
    import fernfield.work.studio as module

    monkeypatch.setattr(module, "KEPT_REVISIONS", 3)
    for number in range(12):
        draw(world, path=[(20 * number + 20, 60, 0), (20 * number + 30, 60, 1)])
    drawn = everything(world)
    for _ in range(10):
        world.undo()
    studio.logbook_bytes = 1
    assert studio.fold(world.id) == 1
    assert [r.number for r in studio.store.revisions(world.id)][-1] == 2
    while world.can_redo:
        world.redo()
    assert everything(world) == drawn


def test_a_logbook_that_is_small_enough_is_left_alone(studio: Studio, world: OpenWorld) -> None:
    history(world, 12)
    assert studio.fold(world.id) == 0
    assert len(studio.store.revisions(world.id)) == 12


def test_the_logbook_is_minded_while_the_world_is_worked_on(
    studio: Studio, world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    import fernfield.work.studio as module

    started: list[str] = []
    monkeypatch.setattr(module, "FOLD_EVERY", 4)
    monkeypatch.setattr(studio.jobs, "start", lambda kind, *_: started.append(kind.name))
    studio.logbook_bytes = 1
    for _ in range(9):
        draw(world)
    assert started == ["fold", "fold"]


def test_what_differs_is_one_of_the_tiles_that_a_revision_names(studio: Studio, world: OpenWorld) -> None:
    outcome = draw(world)
    parts = LogbookStore(studio.store.engine).where(world.id, 1)
    assert {at.layer for at, _ in parts} == {"height"}
    assert len(parts) == 4
    assert outcome.window.rows > 0
    assert (ground(world) != 10).any()


def test_a_database_of_the_first_version_opens(tmp_path: Path) -> None:
    """As 0001 made it, with a world in it: it is brought up, and keepsakes and pictures are there."""
    path = tmp_path / "fernfield.db"
    engine = open_database(path)
    from alembic import command
    from alembic.config import Config

    import fernfield.store.database as database

    config = Config()
    config.set_main_option("script_location", str(Path(database.__file__).parent / "migrations"))
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        command.downgrade(config, "0001")
        connection.commit()
    with engine.connect() as c:
        columns = {row[1] for row in c.execute(text("PRAGMA table_info(revisions)"))}
        assert "keepsake" not in columns
        c.execute(text("INSERT INTO worlds VALUES ('w1', '2026-01-01', '2026-01-01', 1)"))
        c.execute(text("INSERT INTO tracts VALUES ('t1', 'w1', 0, 'T', 65, 65, 1.0, 4.0)"))
        c.execute(text("INSERT INTO entries VALUES ('w1', 'about', 'world', '{\"name\": \"Old\"}')"))
        c.execute(text("INSERT INTO entries VALUES ('w1', 'water', 'sea', '{\"sea_level_m\": 0}')"))
        c.execute(text("INSERT INTO revisions VALUES ('w1', 1, '2026-01-01', 'edit', NULL, 'Renamed', '{}')"))
        c.commit()
    migrate(engine)
    engine.dispose()
    studio = Studio(tmp_path)
    world = studio.world("w1")
    assert name_of(world) == "Old"
    assert (ground(world) == 4).all()
    assert np.isfinite(ground(world)).all()
    assert world.can_undo
    assert not sheets_of(world)
    assert studio.store.revisions("w1")[0].keepsake is None
    assert studio.store.pictures("w1") == []
    studio.close()
