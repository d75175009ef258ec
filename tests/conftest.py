"""What the tests share: studios in folders of their own, a client, and a small world."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Generator, Iterator
from contextlib import closing, suppress
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient
from filelock import FileLock
from sqlalchemy import Engine

from fernfield.core.checks.finding import Finding
from fernfield.core.grid import FloatArray
from fernfield.store import database
from fernfield.web.app import create_app
from fernfield.work.cover.rows import covers_of
from fernfield.work.growth.rows import mixes_of
from fernfield.work.kernel.checking import Lookout
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.sites.rows import THINGS, default_start
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from fernfield.work.trial.walks import Walk
from fernfield.work.warm import BESIDE, compiling, warm_kernels
from fernfield.work.worlds.beginnings import WorldSpec
from tests.browser.driving import browser, desk, page, server
from tests.browser.small import small, small_world

__all__ = ["browser", "desk", "page", "server", "small", "small_world"]  # fixtures for the tests of every room


LONG = (
    "test_workers_that_die_again_and_again", "test_a_process_killed_while_it_weathers",
    "test_killed_at_random_moments_of",
    "test_a_database_that_another_program_holds", "test_axe.py::test_whatever_can_be_opened[dark]",
    "test_axe.py::test_every_page_by_itself[dark]", "test_axe.py::test_every_stage_and_view[dark]",
    "test_axe.py::test_a_walk_and_a_narrow_screen[dark]", "test_nothing_is_out_of_reach[size1]",
    "test_nothing_is_out_of_reach[size3]", "test_nothing_is_out_of_reach[size4]", "test_the_ground_near_the_eye_has",
    "test_bench_map_and_header_show_the_same_stage", "test_the_overlook_by_keys", "test_a_walk_by_buttons_on_the",
    "test_a_stroke_that_the_server_ended_well", "test_one_tract_and_four_that_are_joined_agree",
    "test_the_thread_at_640_by_400", "test_the_view_is_as_it_was_left", "test_the_other_end_of_a_pen_takes_away",
    "test_two_fingers_turn_the_overlook", "test_who_does_the_work_is_a_setting", "test_nothing_is_out_of_reach[size0]",
    "test_a_cluster_that_does_not_answer", "test_a_stroke_under_way_at_a_kill_is_in_doubt",
)  # fmt: skip
"""What takes longest is left out where all must be done in half an hour; `FERN_LONG=1` runs it too."""


IN_MEMORY = Path("/dev/shm")
ROOM_BYTES = 6 << 30


def pytest_configure(config: pytest.Config) -> None:
    """What tests write lies in memory where there is room for it: nobody pulls a plug here, and disks stall."""
    # The application is compiled once, not at each of its hundred starts.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    free = shutil.disk_usage(IN_MEMORY).free if os.access(IN_MEMORY, os.W_OK) else 0
    left = os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    if min(free, left) > ROOM_BYTES:
        os.environ.setdefault("PYTEST_DEBUG_TEMPROOT", str(IN_MEMORY))


def pytest_sessionstart(session: pytest.Session) -> None:
    """What was never compiled on this machine is compiled once, by both processors, before workers and servers ask."""
    shares = session.config.getoption("numprocesses", None) and not hasattr(session.config, "workerinput")
    if shares and (beside := compiling()) is not None:
        warm_kernels(steps=BESIDE[::-1])
        beside.follow(lambda done, of: None)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Whatever drives a browser is marked so: `pytest -m browser`. Long tests wait until they are asked for."""
    for item in items:
        if "browser" in getattr(item, "fixturenames", ()):
            item.add_marker("browser")
    # The longest files first: none of them ends alone.
    driven = {item.path for item in items if item.get_closest_marker("browser")}
    items.sort(key=lambda item: item.path not in driven)
    named = any("::" in str(argument) for argument in config.args)
    if "FERN_LONG" not in os.environ and not named:
        long = [item for item in items if any(name in item.nodeid for name in LONG)]
        config.hook.pytest_deselected(items=long)
        items[:] = [item for item in items if item not in long]


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """A test's fixtures know whether it failed."""
    report = yield
    if report.failed:
        item.failed = True  # type: ignore[attr-defined]
    return report


@pytest.fixture(scope="session")
def demo_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with the demo world, made once by `fernfield demo`: copy it before changing anything.

    All workers of a run in parallel share it: the first one makes it. `FERN_DEMO` names one that was made before.
    """
    if "FERN_DEMO" in os.environ:
        return Path(os.environ["FERN_DEMO"])
    shared = tmp_path_factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        shared = shared.parent
    data = shared / "demo-world"
    with FileLock(f"{data}.lock"):
        if not data.exists():
            make_demo(data)
    return data


@pytest.fixture(scope="session", autouse=True)
def schema(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """The newest schema is made once for each worker by its migrations: each new database begins as a copy of it."""
    path = tmp_path_factory.mktemp("schema") / "newest.db"
    database.open_database(path).dispose()
    newest, migrations = sqlite3.connect(path), database.migrate

    def migrate(engine: Engine, to: str = "head") -> None:
        with suppress(sqlite3.DatabaseError), closing(engine.raw_connection()) as fresh:
            if to == "head" and not fresh.cursor().execute("SELECT 1 FROM sqlite_master").fetchone():
                newest.backup(fresh.driver_connection)  # type: ignore[arg-type]
        migrations(engine, to)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(database, "migrate", migrate)
        yield
    newest.close()


def make_demo(data: Path) -> None:
    """The demo world in a folder, as `fernfield demo` makes it."""
    command = [sys.executable, "-u", "-m", "fernfield.cli", "demo", "--port", "0", "--data", str(data)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        assert any("http://127.0.0.1:" in line for line in process.stdout)
        process.send_signal(signal.SIGTERM)


def ended(job: Job) -> Job:
    """A job, once it has ended."""
    version, end = -1, time.monotonic() + 120
    while not job.ended:
        assert time.monotonic() < end, job.message
        version = job.wait(version, 1.0)
    return job


@pytest.fixture
def studio(tmp_path: Path) -> Iterator[Studio]:
    made = Studio(tmp_path / "data")
    yield made
    made.close()


@pytest.fixture
def world(studio: Studio) -> OpenWorld:
    """Level ground at 10 m, 300 m square: four tiles meet at post 256."""
    spec = WorldSpec(name="Test", width_m=300, depth_m=300, spacing_m=1, elevation_m=10, sea_level_m=0)
    return studio.world(studio.create(spec))


@pytest.fixture
def client(tmp_path: Path) -> Iterator[TestClient]:
    with TestClient(create_app(Studio(tmp_path / "data")), base_url="http://127.0.0.1:8127") as made:
        yield made


def live(world_id: str) -> str:
    """The socket of a world; the test client's own host name would be refused."""
    return f"ws://127.0.0.1:8127/live/{world_id}"


def draw(world: OpenWorld, tool: str = "raise", **fields: object) -> Outcome:
    """A stroke of one second across the place where four tiles meet."""
    values: dict[str, object] = {
        "tool": tool,
        "radius_m": 20,
        "softness": 0.5,
        "strength": 10,
        "path": [(230, 60, 0), (270, 30, 1)],
    }
    return world.stroke(world.first_tract.row.id, Stroke(**{**values, **fields}))  # type: ignore[arg-type]


def ground(world: OpenWorld) -> FloatArray:
    """Every post of the first tract."""
    tract = world.first_tract
    return np.asarray(tract.cache.read(HEIGHT, tract.grid.window))


def walk_from_start(world: OpenWorld, tract: Tract, key: str | None = None) -> Walk:
    """A walk from a start, the default one unless `key` says."""
    land = world.land_from(tract.row.id)
    start = default_start(world, land)[1] if key is None else world.row(THINGS, key)
    return Walk(world, land, start.x, start.y, start.turn_deg, start.over_m)


def found_in(world: OpenWorld) -> list[Finding]:
    """What the checks of every room find."""
    checks = [check for room in world.house.rooms for check in room.checks]
    return [finding for _, found in Lookout().found(world, checks) for finding in found]


def everything(world: OpenWorld) -> dict[str, bytes]:
    """The bytes of every layer and row, to compare whole worlds."""
    tract = world.first_tract
    layers = {HEIGHT, *(f"cover:{k}" for k, _ in covers_of(world)), *(f"growth:{k}" for k, _ in mixes_of(world))}
    found = {layer: tract.cache.read(layer, tract.grid.window).tobytes() for layer in layers}
    # Layers that there may be or not: nothing in one is the same as none.
    for layer in {place[0] for place in tract.cache.ranges} - layers:
        values = tract.cache.read(layer, tract.grid.window)
        if values.any():
            found[layer] = values.tobytes()
    for collection, rows in world.rows.items():
        for key, row in rows.items():
            found[f"{collection}/{key}"] = row.model_dump_json().encode()
    return found
