"""The client for scripts, and the examples beside the documents, on a server of their own."""

from __future__ import annotations

import importlib.util
import zipfile
from pathlib import Path
from types import ModuleType

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.client import Client, Refused, World
from fernfield.core.grid import Window
from fernfield.work.plots.rows import LINES, Line
from fernfield.work.sites.rows import THINGS, Piece, Start
from fernfield.work.strokes import Stroke
from fernfield.work.worlds.beginnings import WorldSpec

EXAMPLES = Path(__file__).parents[2] / "docs" / "examples"


def example(name: str) -> ModuleType:
    spec = importlib.util.spec_from_file_location(name, EXAMPLES / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    return made


@pytest.fixture
def there(client: TestClient) -> Client:
    return Client("", http=client)


@pytest.fixture
def world(there: Client) -> World:
    made = there.make(WorldSpec(name="Fen", width_m=300, depth_m=120, spacing_m=1, elevation_m=4))
    made.put(LINES, Line(name="Long dyke", points=[(60, 60), (200, 60), (240, 90)]))
    return made


def test_what_is_sent_and_told_are_the_application_s_own_models(there: Client, world: World) -> None:
    (tract,) = world.tracts()
    key = world.put(THINGS, Start(name="Landing", x=20, y=30, turn_deg=90))
    world.put(THINGS, Piece(name="Barn", kit="stone_barn", x=90, y=30), "barn")
    world.change(THINGS, "barn", x=95)
    rows = world.rows(THINGS)
    assert (type(rows[key]), type(rows["barn"]), rows["barn"].x) == (Start, Piece, 95)
    assert world.delete(THINGS, "barn") == world.undo() - 1 == world.revision - 1
    outcome = tract.stroke(
        Stroke(tool="raise", radius_m=20, softness=1, strength=9, path=[(50, 60, 0, 1), (70, 60, 1, 1)])
    )
    heights = tract.heights()
    assert heights.shape == (121, 301)
    assert outcome["fill_m3"] == pytest.approx(float((heights.astype(np.float64) - 4).sum()), rel=1e-3)
    window = Window(40, 30, 80, 90)
    assert (tract.heights(window) == heights[40:80, 30:90]).all()
    assert tract.spot(60, 60)["elevation_m"] == pytest.approx(float(heights[60, 60]))
    with pytest.raises(Refused, match="nothing") as refused:
        world.change(THINGS, "nothing", x=1)
    assert refused.value.status == 404
    assert [one.id for one in there.worlds()] == [world.id] == [there.world("Fen").id]
    with pytest.raises(Refused, match="job"):
        there.wait("no-such-job")


def test_the_examples_do_what_they_say(
    there: Client, world: World, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    brought = example("dyke").run(there, "Fen")
    heights = world.tracts()[0].heights()
    assert brought == pytest.approx(float((heights.astype(np.float64) - 4).sum()), rel=1e-3)
    assert heights[60, 130] > 4.5
    (key,) = example("cairns").run(there, "Fen")
    top = world.rows(THINGS)[key]
    assert heights[120 - int(top.y), int(top.x)] == heights.max()
    # A world without a start is not fit to go.
    nightly, to = example("nightly"), tmp_path / "fen.zip"
    assert (nightly.run(there, "Fen", to), to.exists()) == (1, False)
    assert "start" in capsys.readouterr().out
    world.put(THINGS, Start(name="Landing", x=20, y=30, default=True))
    assert nightly.run(there, "Fen", to) == 0
    assert "manifest.json" in zipfile.ZipFile(to).namelist()
