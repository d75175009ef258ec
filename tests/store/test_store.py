"""The database: its schema, older databases, and a process killed at any moment."""

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine, text

from fernfield.formats.tileblob import encode_tile
from fernfield.store.database import answers, migrate, open_database
from fernfield.store.schema import metadata
from fernfield.work.growth.rows import KINDS, MIXES
from fernfield.work.growth.swards import SWARDS
from fernfield.work.studio import Studio
from fernfield.work.water.rows import sea_level
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.rows import name_of
from tests.conftest import ground
from tests.waits import until_true


def test_the_migrations_make_the_schema_of_the_code(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "new.db")
    with engine.connect().execution_options(reading=True) as c:
        assert compare_metadata(MigrationContext.configure(c), metadata) == []
    assert answers(engine)
    engine.dispose()


OLD_MIX = (
    '{"name": "Trees", "seed": 7, "kinds": [{"key": "tree", "name": "Tree", "form": "tree", "habit": "upright",'
    ' "density_per_ha": 220, "size_min": 1, "size_max": 1.5, "crown_m": 2.2, "tall_m": 7, "blocks_m": 0.25,'
    ' "colour": "#3f6b43"}]}'
)


OLD_KIND = (
    '{"_v": 1, "name": "Tree", "form": "broadleaf", "tall_m": 7, "crown_m": 2, "trunk_m": 0.25, "leans": 0, '
    '"blocks": "trunk", "colour": "#3c6a42"}'
)


def older_database(folder: Path, revision: str) -> Path:
    """A database as the schema of an older revision had it, written with SQL."""
    path = folder / "fernfield.db"
    engine = create_engine(f"sqlite:///{path}")
    migrate(engine, revision)
    tile = encode_tile(np.full((65, 65), 3.25, np.float32))
    with engine.begin() as c:
        when = "'2026-01-02T03:04:05+00:00'"
        c.execute(text(f"INSERT INTO worlds (id, created_at, changed_at, revision) VALUES ('w1', {when}, {when}, 1)"))
        columns = "id, world_id, position, name, rows, cols, spacing_m, base_m"
        c.execute(text(f"INSERT INTO tracts ({columns}) VALUES ('t1', 'w1', 0, 'Main tract', 65, 65, 2.0, 1.0)"))
        for collection, key, body in (
            ("about", "world", '{"name": "Old"}'),
            ("water", "sea", '{"sea_level_m": 2}'),
            ("light", "sun", '{"sun_bearing_deg": 300, "sun_height_deg": 30}'),
            ("covers", "grass", '{"name": "Grass", "colour": "#99aa66", "position": 0}'),
            ("mixes", "mix", OLD_MIX),
            ("things", "gate", '{"sort": "start", "name": "Gate", "x": 5, "y": 6, "default": true}'),
        ):
            c.execute(text("INSERT INTO entries VALUES ('w1', :a, :b, :c)"), {"a": collection, "b": key, "c": body})
        if revision >= "0003":
            place = '{"name": "Main tract", "position": 0, "x": 0, "y": 0, "kind": "open"}'
            c.execute(text("INSERT INTO entries VALUES ('w1', 'tracts', 't1', :place)"), {"place": place})
        if revision >= "0006":
            c.execute(text("INSERT INTO entries VALUES ('w1', 'kinds', 'tree', :kind)"), {"kind": OLD_KIND})
        c.execute(text("INSERT INTO tiles VALUES ('t1', 'height', 0, 0, 3.25, 3.25, :blob)"), {"blob": tile})
        c.execute(
            text(
                "INSERT INTO revisions (world_id, number, made_at, sort, target, words, command) "
                "VALUES ('w1', 1, '2026-01-02T03:04:05+00:00', 'edit', NULL, 'Raise', '{}')"
            )
        )
    engine.dispose()
    return path


@pytest.mark.parametrize("revision", ["0001", "0002", "0003", "0005", "0006", "0007"])
def test_a_database_of_an_older_schema_opens_with_what_is_in_it(tmp_path: Path, revision: str) -> None:
    older_database(tmp_path, revision)
    studio = Studio(tmp_path)
    world = studio.world("w1")
    assert (name_of(world), world.revision, sea_level(world)) == ("Old", 1, 2)
    assert (ground(world) == 3.25).all()
    # What was a kind inside of its mix is a row of its own, and the mix has it in its place.
    tree, mix = world.row(KINDS, "tree"), world.row(MIXES, "mix")
    assert (tree.form, tree.tall_m, tree.trunk_m, tree.blocks, tree.leans) == ("broadleaf", 7, 0.25, "trunk", 0)
    assert [(part.kind, mix.per_ha(part), part.size_max) for part in mix.kinds] == [("tree", 220, 1.5)]
    assert (tree.model, studio.store.models("w1"), world.each(SWARDS)) == (None, [], [])
    studio.close()


def test_deleting_a_world_leaves_nothing_of_it(studio: Studio) -> None:
    from tests.conftest import draw

    kept = studio.create(WorldSpec(name="Kept", width_m=64, depth_m=64, spacing_m=1))
    gone = studio.create(WorldSpec(name="Gone", width_m=64, depth_m=64, spacing_m=1))
    draw(studio.world(gone), path=[(30, 30, 0)])
    studio.delete(gone)
    assert [name for _, name in studio.bin()] == ["Gone"]
    studio.destroy(gone)
    with studio.store.reading() as c:
        for table in metadata.sorted_tables:
            names = {column.name for column in table.columns}
            column = "world_id" if "world_id" in names else "id" if table.name == "worlds" else "tract_id"
            left = {row[0] for row in c.execute(text(f"SELECT {column} FROM {table.name}"))}
            assert gone not in left
            if table.name in ("worlds", "tracts", "entries"):
                assert kept in left
        assert c.execute(text("SELECT count(*) FROM tiles")).scalar() == 0


STREAM = """
import random, sys
from pathlib import Path
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.studio import Studio
from fernfield.work.strokes import Stroke
studio = Studio(Path(sys.argv[1]))
worlds = list(studio.worlds())
world = worlds[0] if worlds else studio.world(
    studio.create(WorldSpec(name="K", width_m=400, depth_m=400, spacing_m=1, elevation_m=0)))
print("ready", flush=True)
for number in range(world.revision, 200):
    rng = random.Random(number)
    path = [(rng.uniform(0, 400), rng.uniform(0, 400), t / 5) for t in range(3)]
    done = world.stroke(world.first_tract.row.id, Stroke(tool=("raise", "lower", "smooth")[number % 3], radius_m=30,
                        softness=0.6, strength=20, path=path))
    print(done.revision, flush=True)
"""


def one_run(data: Path, strokes: int, pause: float) -> int:
    """Let the stream acknowledge `strokes` more and kill it `pause` [s] later; returns the last one acknowledged."""
    log = data.parent / "acknowledged"

    def numbers() -> list[int]:
        return [
            int(line)
            for line in log.read_text().splitlines(keepends=True)
            if line.strip().isdigit() and line[-1] == "\n"
        ]

    with log.open("wb") as out:
        process = subprocess.Popen([sys.executable, "-c", STREAM, str(data)], stdout=out)
        until_true(lambda: len(numbers()) >= strokes or process.poll() is not None)
        time.sleep(pause)
        process.send_signal(signal.SIGKILL)
        process.wait()
    return max(numbers(), default=0)


ACKNOWLEDGED = int(os.environ.get("FERN_STROKES", "60"))
"""Strokes that are drawn between kills; more by hand: FERN_STROKES=2000."""


def test_killed_at_random_moments_every_acknowledged_stroke_is_there_and_none_is_half_there(tmp_path: Path) -> None:
    rng = random.Random(7)
    data = tmp_path / "data"
    acknowledged = kills = 0
    while acknowledged < ACKNOWLEDGED:
        before = acknowledged
        acknowledged = max(before, one_run(data, rng.randrange(5, 30), rng.uniform(0, 0.03)))
        assert acknowledged > before
        kills += 1
        with sqlite3.connect(data / "fernfield.db") as c:
            assert c.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        studio = Studio(data)
        world = next(iter(studio.worlds()))
        assert acknowledged <= world.revision <= acknowledged + 1
        # Not half there: the ground is what the strokes up to this revision make, to the last byte.
        kept = ground(world)
        number = world.revision
        studio.close()
        assert kept.tobytes() == _replayed(tmp_path / "twin", number)
    assert kills >= 5


def _replayed(folder: Path, count: int) -> bytes:
    """The ground after the first `count` strokes of the stream, drawn without interruption (kept between calls)."""
    from fernfield.work.strokes import Stroke

    studio = Studio(folder)
    worlds = list(studio.worlds())
    spec = WorldSpec(name="K", width_m=400, depth_m=400, spacing_m=1, elevation_m=0)
    world = worlds[0] if worlds else studio.world(studio.create(spec))
    for number in range(world.revision, count):
        rng = random.Random(number)
        path = [(rng.uniform(0, 400), rng.uniform(0, 400), t / 5) for t in range(3)]
        tool = ("raise", "lower", "smooth")[number % 3]
        world.stroke(
            world.first_tract.row.id,
            Stroke(tool=tool, radius_m=30, softness=0.6, strength=20, path=path),
        )
    land = ground(world).tobytes()
    studio.close()
    return land


def test_what_a_killed_run_left_behind_is_cleared_away(tmp_path: Path) -> None:
    studio = Studio(tmp_path)
    (tmp_path / "incoming" / "half").write_bytes(b"x")
    (tmp_path / "packages" / "w1-r3.part").write_bytes(b"x")
    studio.close()
    studio = Studio(tmp_path)
    assert not list((tmp_path / "incoming").iterdir())
    assert not list((tmp_path / "packages").iterdir())
    studio.close()


def test_a_file_that_is_no_database_is_refused(tmp_path: Path) -> None:
    (tmp_path / "fernfield.db").write_bytes(b"this is not a database, it is a letter " * 40)
    with pytest.raises(Exception, match="is damaged, or is none"):
        Studio(tmp_path)
