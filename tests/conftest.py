"""What the tests share: studios in folders of their own, a client, and a small world."""

from __future__ import annotations

import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.grid import FloatArray
from fernfield.web.app import create_app
from fernfield.work.beginnings import WorldSpec
from fernfield.work.commands import Stroke
from fernfield.work.layers import HEIGHT
from fernfield.work.studio import Studio
from fernfield.work.world import OpenWorld, Outcome


@pytest.fixture(scope="session")
def demo_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with the demo world, made once by `fernfield demo`: copy it before changing anything."""
    data = tmp_path_factory.mktemp("demo")
    command = [sys.executable, "-u", "-m", "fernfield.cli", "demo", "--port", "0", "--data", str(data)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        assert any("http://127.0.0.1:" in line for line in process.stdout)
        process.send_signal(signal.SIGINT)
    return data


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


def everything(world: OpenWorld) -> dict[str, bytes]:
    """The bytes of every layer and row, to compare whole worlds."""
    tract = world.first_tract
    layers = {HEIGHT, *(f"cover:{k}" for k, _ in world.covers()), *(f"growth:{k}" for k, _ in world.mixes())}
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
