"""The command line, the demo world, and walks in it."""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import urllib.request
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from fernfield.cli import app, main
from fernfield.core.travel.walker import Intent
from fernfield.demo.reach import NAME, build_demo, make_reach
from fernfield.formats.asc import asc_lines
from fernfield.work.ground.sheeting import UNDER
from fernfield.work.growth.standing import standing_plants
from fernfield.work.keeping import examine
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.posts.layers import sort_of
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.rows import THINGS, Piece, things_of
from fernfield.work.studio import Studio
from fernfield.work.trial.walks import Walk
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.rows import name_of
from tests.conftest import draw, ground, walk_from_start
from tests.core.real_land import jacksboro


@pytest.fixture(scope="module")
def reach(tmp_path_factory: pytest.TempPathFactory, demo_data: Path) -> Studio:
    return Studio(Path(shutil.copytree(demo_data, tmp_path_factory.mktemp("reach") / "data")))


def test_the_demo_world_is_what_it_says(reach: Studio) -> None:
    world = next(iter(reach.worlds()))
    tract = world.first_tract
    assert (name_of(world), tract.grid.width, tract.grid.spacing) == (NAME, 1024, 1)
    plants = sum(len(p.plants) for p in standing_plants(world, world.first_land, tract.grid.window))
    assert 2_000 <= plants <= 9_000
    things = [t for _, t in things_of(world)]
    assert {t.team for t in things if t.sort == "start"} == {1, 2}
    assert sum(getattr(t, "default", False) for t in things) == 1
    land = ground(world)
    assert land.min() < -5 < 0 < 35 < land.max()
    assert 0.05 < (land < 0).mean() < 0.35
    assert reach.check(world.id) == []
    # A second time it is found, not made again.
    assert build_demo(reach) == world.id


def test_what_is_kept_of_the_demo_is_what_its_commands_make(reach: Studio, tmp_path: Path) -> None:
    """By hand: rows to the letter, heights to a tenth of a millimetre, masks to 2 of 65,535 (other processors round
    other last bits); and the coarser levels follow from the posts."""
    studio = Studio(tmp_path)
    made = studio.world(make_reach(studio))
    words = [revision.words.split()[0].strip(",") for revision in studio.store.revisions(made.id)]
    assert 30 <= sum(word in STROKES for word in words) <= 99
    kept = next(iter(reach.worlds()))
    assert len(made.tracts) == len(kept.tracts) == 2
    ids = dict(zip(made.tracts, kept.tracts, strict=True))

    def entries(world: OpenWorld, at: Studio) -> list[tuple[str, ...]]:
        found = []
        for entry in at.store.entries(world.id):
            for own, other in ids.items():
                entry = tuple(part.replace(own, other) for part in entry)
            found.append(entry)
        return sorted(found)

    assert entries(made, studio) == entries(kept, reach)
    for own, other in ids.items():
        one, two = made.tract(own), kept.tract(other)
        assert replace(one.row, id="", world_id="") == replace(two.row, id="", world_id="")
        held = [{place for place in at.cache.ranges if not at.cache.blank_tile(place)} for at in (one, two)]
        assert held[0] == held[1]
        for place in held[0]:
            first, second = one.cache.tile(place).astype(np.float64), two.cache.tile(place).astype(np.float64)
            if place[0] != UNDER:  # which holds the bits of heights, not heights
                assert np.abs(first - second).max() < (2 if sort_of(place[0]) in ("cover", "growth") else 1e-4)
    studio.close()


def test_the_doctor_finds_nothing_wrong_in_the_kept_demo(demo_data: Path, tmp_path: Path) -> None:
    copied = Path(shutil.copytree(demo_data, tmp_path / "data"))
    assert examine(copied, mend=False)[0] == []


def test_a_demo_that_was_cut_off_is_brought_in_anew(studio: Studio) -> None:
    def cut(share: float, words: str) -> None:
        if share > 0.4:
            raise KeyboardInterrupt

    own = studio.create(WorldSpec(name="Mine", width_m=64, depth_m=64, spacing_m=1))
    with pytest.raises(KeyboardInterrupt):
        build_demo(studio, cut)
    assert {w.id for w in studio.worlds()} == {own}
    made = build_demo(studio)
    assert {w.id for w in studio.worlds()} == {own, made}
    # Giving it another name is the user's own affair: then there may be two.
    assert build_demo(studio) == made


def test_what_an_earlier_version_left_of_a_demo_goes(studio: Studio) -> None:
    half = studio.create(WorldSpec(name=NAME, width_m=64, depth_m=64, spacing_m=1))
    (studio.data / "demo-being-made").write_text(half)
    made = build_demo(studio)
    assert made != half
    assert {w.id for w in studio.worlds()} == {made}
    assert not (studio.data / "demo-being-made").exists()


STROKES = ("Raise", "Lower", "Smooth", "Flatten", "Paint", "Sow", "Thin")


def test_a_walk_from_each_start_of_the_demo_gets_somewhere(reach: Studio) -> None:
    world = next(iter(reach.worlds()))
    for key in ("start-west", "start-east"):
        walk = walk_from_start(world, world.first_tract, key)
        x, y = walk.walker.x, walk.walker.y
        walk.advance(Intent(ahead=1, facing=walk.walker.facing, run=True), 240)
        assert abs(walk.walker.x - x) + abs(walk.walker.y - y) > 15
        assert abs(walk.walker.z - walk.height(walk.walker.x, walk.walker.y)) < 0.01


def test_trees_block_a_walk_in_a_sown_wood(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=1000, path=[(40, 100, 0), (260, 100, 2)], radius_m=60, softness=0)
    walk = Walk(world, world.first_land, 10, 100, 90)
    blocked = set()
    for _ in range(1200):
        walker = walk.advance(Intent(ahead=1, facing=90, run=True))
        blocked.add(walker.blocked_by)
        assert all(
            abs(complex(o.x - walker.x, o.y - walker.y)) > o.radius + 0.29
            for o in walk.obstacles(walker.x, walker.y, 1)
        )
    assert "tree" in blocked
    assert walker.x > 60


def test_a_piece_blocks_a_walk_and_is_named(world: OpenWorld) -> None:
    thing = Piece(kit="stone_barn", name="Long barn", x=100, y=120)
    world.edit(put(THINGS, "barn", thing))
    walk = Walk(world, world.first_land, 100, 100)
    walker = walk.advance(Intent(ahead=1, facing=0), 600)
    assert walker.blocked_by == "Long barn"
    assert walker.y == pytest.approx(120 - 9 - 0.3, abs=0.01)


def run(*arguments: object, code: int = 0) -> str:
    result = subprocess.run(
        [sys.executable, "-m", "fernfield.cli", *map(str, arguments)], capture_output=True, text=True, timeout=120
    )
    assert result.returncode == code, result.stderr
    return result.stdout if code == 0 else result.stderr + result.stdout


Says = Callable[..., str]


@pytest.fixture
def says(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> Says:
    """The same without a process of its own."""

    def say(*arguments: object, code: int = 0) -> str:
        monkeypatch.setattr(sys, "argv", ["fernfield", *map(str, arguments)])
        with pytest.raises(SystemExit) as ended:
            main()
        heard = capsys.readouterr()
        assert ended.value.code == code, heard.err
        return heard.out if code == 0 else heard.err + heard.out

    return say


def test_import_handover_and_check_from_the_command_line(tmp_path: Path, says: Says) -> None:
    land = jacksboro()[:40, :50]
    source = tmp_path / "land.asc"
    source.write_bytes(b"".join(asc_lines(iter([land]), *land.shape, 90.0)))
    data = tmp_path / "data"
    world = run("import", source, "--name", "Fault", "--data", data).strip()
    package = tmp_path / "out.zip"
    assert "holds r0" in run("handover", world, package, "--data", data)
    assert package.stat().st_size > 1000
    assert "no start" in says("check", world, "--data", data, code=1)
    # A raw file, in words; turned, its first sample lies in the north-east corner.
    (tmp_path / "land.raw").write_bytes(land.astype(">i2").tobytes())
    raw = ("import", tmp_path / "land.raw", "--name", "Raw", "--spacing-m", 90, "--format", "raw", "--data", data)
    said = ("--rows", 40, "--cols", 50, "--sample", "i16", "--byte-order", "big", "--turn-deg", 90)
    turned = says(*raw, *said).strip()
    studio = Studio(data)
    assert np.array_equal(ground(studio.world(turned)), np.rot90(land, -1))
    studio.close()


def test_an_error_on_the_command_line_is_one_clear_line(tmp_path: Path, says: Says) -> None:
    bad = tmp_path / "bad.png"
    bad.write_bytes(b"no picture")
    for arguments, words in (
        (("import", bad, "--name", "x", "--data", tmp_path / "d"), "must be one of"),
        (("import", bad, "--name", "x", "--format", "docx", "--data", tmp_path / "d"), "format"),
        (("import", bad, "--name", "x", "--format", "raw", "--data", tmp_path / "d"), "needs sample"),
        (("handover", "w0", tmp_path / "o.zip", "--data", tmp_path / "d"), "there is no world 'w0'"),
    ):
        text = says(*arguments, code=1)
        assert words in text
        assert len(text.strip().splitlines()) == 1
    text = run("import", tmp_path / "none", "--name", "x", "--data", tmp_path / "d", code=1)
    assert "No such file" in text
    assert len(text.strip().splitlines()) == 1


def test_every_command_has_help() -> None:
    for name in ("demo", "serve", "import", "handover", "check", "bench"):
        result = CliRunner().invoke(app, [name, "--help"])
        assert result.exit_code == 0
        assert "Usage" in result.output


def test_serve_prints_its_address_answers_and_stops(tmp_path: Path) -> None:
    process = subprocess.Popen(
        [sys.executable, "-m", "fernfield.cli", "serve", "--port", "0", "--data", str(tmp_path)],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )
    assert process.stdout is not None
    try:
        for line in process.stdout:
            if found := re.search(r"http://127\.0\.0\.1:\d+/", line):
                break
        with urllib.request.urlopen(f"{found[0]}healthz", timeout=20) as answer:
            assert json.load(answer) == {"status": "ok"}
        second = run("check", "w0", "--data", tmp_path, code=1)
        assert "in use by another Fern Field" in second
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(20)
