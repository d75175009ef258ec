"""Simulated testers: they come where ways lead, by the same tick as a walk; a run is the same wherever it is played."""

from __future__ import annotations

from pathlib import Path
from typing import Any, get_args

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.travel.bots import AIMS, BOT_TICK_S, HEATS, Played, guide_to, worst_of
from fernfield.core.travel.passable import DIRECTIONS, passable
from fernfield.core.travel.reach import reach_from
from fernfield.core.travel.walkers import WALKERS
from fernfield.store.schema import run_tracks
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.crew import HERE, processes
from fernfield.work.kernel.rows import ONLY
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.play.aims import OBJECTIVES, Hold
from fernfield.work.sites.play.rules import RULES, Rules
from fernfield.work.sites.rows import THINGS, Piece, Start
from fernfield.work.studio import Studio
from fernfield.work.trial.running import AimName, BotsOf, ToRun, What, play_round, set_up, sound_tracks
from tests.conftest import ended

FAR_M = 60.0


@pytest.fixture
def field(world: OpenWorld) -> OpenWorld:
    """A start of each of two teams 60 m apart, and an objective at that of the second."""
    world.edit(put(THINGS, "west", Start(name="West", x=100, y=150, team=1, default=True)))
    world.edit(put(THINGS, "east", Start(name="East", x=100 + FAR_M, y=150, team=2)))
    world.edit(put(OBJECTIVES, "hill", Hold(name="Hill", x=100 + FAR_M, y=150, reach_m=5, seconds=2, for_team=1)))
    return world


def played(world: OpenWorld, rounds: int = 1, crew: Any = HERE, **of: Any) -> list[Played]:
    asked = ToRun(bots=(BotsOf(**{"aim": "reach", "count": 4, **of}),), minutes=1, rounds=rounds)
    setup = set_up(world, world.first_land, asked)
    return list(crew.each(play_round, ((setup, 60.0, 3, number) for number in range(rounds))))


def test_a_guide_leads_by_the_quickest_way_from_everywhere() -> None:
    chance = np.random.default_rng(5)
    heights = chance.normal(0, 0.6, (26, 30)).astype(np.float32)
    leave = passable(heights, 1.0, WALKERS["person"], water=np.full(heights.shape, -100, np.float32))
    guide = guide_to(leave, 4, 7, 1.0, 3.0)
    for row, col in ((0, 0), (19, 21), (10, 3), (19, 0)):
        cost, at = 0.0, (row, col)
        while at != (4, 7) and guide[at] >= 0:
            d = guide[at]
            down, right = DIRECTIONS[d]
            cost += np.hypot(down, right) / 3 * 255 / leave[d][at]
            at = (at[0] + down, at[1] + right)
        # The way there, by the search from the other end.
        there = float(reach_from(leave, [(row, col)], 1.0, 3.0).cost[4, 7])
        assert (cost if at == (4, 7) else np.inf) == pytest.approx(there), (row, col)


def test_they_go_straight_over_level_ground_and_win_by_the_rules(field: OpenWorld) -> None:
    field.edit(put(RULES, ONLY, Rules(wins=[[{"sort": "done", "objective": "hill"}]])))  # type: ignore[arg-type]
    (one,) = played(field)
    # A person goes 3 m/s; all begin within 4 m of their start, the hill begins 5 m off, and is held for 2 s.
    assert (FAR_M - 5 - 4) / 3 <= one.seconds - 2 <= (FAR_M + 4) / 3 + 1
    assert (one.won, one.over) == (1, True)
    # Over open ground it goes straight, not from post to post.
    far = np.hypot(*(one.tracks[:, -1, :2] - one.tracks[:, 0, :2]).T)
    walked = np.hypot(*np.diff(one.tracks[..., :2], axis=1).transpose(2, 0, 1)).sum(axis=1)
    assert (walked < far * 1.01 + 0.5).all()
    steps = np.hypot(*np.diff(one.tracks[..., :2], axis=1).transpose(2, 0, 1))
    assert steps.max() <= 3 + 1e-3
    # Each second of each bot is counted once.
    assert sum(one.heat[what].sum() for what in ("walked", "stood")) == 4 * one.seconds


def test_what_shuts_them_in_is_told_and_no_body_is_gone_through(field: OpenWorld) -> None:
    for number, (x, y) in enumerate((side * 7.5, k) for side in (-1, 1) for k in range(-9, 10)):
        for key, at in ((f"a{number}", (100 + x, 150 + y)), (f"b{number}", (100 + y, 150 + x))):
            field.edit(put(THINGS, key, Piece(name="Block", kit="block", x=at[0], y=at[1])))
    (one,) = played(field, aim="explore", hurries=True)
    boxed = np.abs(one.tracks[..., :2] - (100, 150)).max()
    assert boxed < 7.5
    (two,) = played(field)
    assert {event.sort for event in two.events} == {"stuck"}
    (worst, *_) = worst_of([two])
    assert (worst["count"] > 0, np.hypot(worst["x"] - 100, worst["y"] - 150) < 11) == (True, True)


def test_the_same_seed_gives_the_same_tracks_on_any_number_of_workers(field: OpenWorld) -> None:
    crew = processes(2)
    try:
        here, there = played(field, 3, aim="explore"), played(field, 3, crew, aim="explore")
    finally:
        crew.close()
    assert [one.tracks.tobytes() for one in here] == [one.tracks.tobytes() for one in there]
    assert len({one.tracks.tobytes() for one in here}) == 3


def test_a_run_is_kept_told_and_refused(client: TestClient, tmp_path: Path) -> None:
    studio: Studio = client.app.state.studio  # type: ignore[attr-defined]
    spec = {"name": "W", "width_m": 120, "depth_m": 80, "spacing_m": 1, "elevation_m": 5}
    world_id = client.post("/api/worlds", json=spec).json()["id"]
    base = f"/api/worlds/{world_id}"
    asked = {"name": "First", "bots": [{"team": 1, "count": 3}, {"team": 2, "count": 2, "aim": "meet"}], "rounds": 2,
             "minutes": 0.5}  # fmt: skip
    assert "no start" in client.post(f"{base}/runs", json=asked).json()["detail"]
    for team, x in ((1, 30), (2, 50)):
        client.post(f"{base}/things", json={"sort": "start", "name": f"S{team}", "team": team, "x": x, "y": 40})
    for wrong in ({"bots": []}, {"bots": [{"team": 1, "count": 200}] * 3}, {"rounds": 0}, {"minutes": 1e9}):
        assert client.post(f"{base}/runs", json={**asked, **wrong}).status_code == 422
    job = ended(studio.jobs.get(client.post(f"{base}/runs", json=asked).json()["job"]))
    key = (job.result or {})["key"]
    (row,) = client.get(f"{base}/runs").json()
    assert (row["key"], row["won"], row["mean_s"], list(row["met_s"])) == (key, {"none": 2}, 30, ["1-2"])
    heat = client.get(f"{base}/runs/{key}/heat?what=walked")
    stood = client.get(f"{base}/runs/{key}/heat?what=stood")
    assert (heat.headers["X-Shape"], heat.headers["X-Squares"]) == ("21,31", "-0.5,80.5,4")
    assert sum(np.frombuffer(one.content, "<f4").sum() for one in (heat, stood)) == 2 * 5 * 30
    track = client.get(f"{base}/runs/{key}/tracks?round=1&bot=4").json()
    assert (track["bot"], len(track["track"])) == ("2.2 of team 2", 31)
    assert client.get(f"{base}/runs/{key}/tracks?round=2").status_code == 404
    report = client.get(f"{base}/runs/{key}/report.html").text
    assert ("First" in report, "http" in report, "data:image/png" in report) == (True, False, True)
    # A round that would take minutes stops within a moment, and nothing of it is kept.
    long = client.post(f"{base}/runs", json={**asked, "rounds": 9, "minutes": 60}).json()["job"]
    client.delete(f"/api/jobs/{long}")
    assert ended(studio.jobs.get(long)).state == "cancelled"
    assert (studio.store.runs(world_id), [*(studio.data / "incoming").iterdir()]) == ([key], [])
    # Where they were goes wherever the world goes: with a copy, as one file, and out of a folder of an earlier version.
    copied = ended(studio.jobs.get(client.post(f"{base}/copy", json={"name": "B"}).json()["job"])).result or {}
    assert client.get(f"/api/worlds/{copied['world']}/runs/{key}/heat?what=walked").content == heat.content
    (tmp_path / "w.fern").write_bytes(client.get(f"{base}.fern").content)
    other = Studio(tmp_path / "other")
    other.read_world(tmp_path / "w.fern")
    blob = other.store.tracks(world_id, key) or b""
    sound_tracks(blob)
    with other.store.engine.begin() as c:
        c.execute(run_tracks.delete())
    other.close()
    (tmp_path / "other" / "runs" / world_id).mkdir(parents=True)
    (tmp_path / "other" / "runs" / world_id / f"{key}.npz").write_bytes(blob)
    (tmp_path / "other" / "runs" / world_id / "spoilt.npz").write_bytes(blob[:-99])
    other = Studio(tmp_path / "other")
    assert other.store.tracks(world_id, key) == blob
    assert [path.name for path in (tmp_path / "other" / "runs").rglob("*.npz")] == ["spoilt.npz"]
    other.close()
    client.delete(f"{base}/runs/{key}")
    assert client.get(f"{base}/runs/{key}/worst").status_code == 404


def test_a_bot_s_tick_is_one_that_walks_are_tested_at_and_each_aim_can_be_asked_for() -> None:
    assert (set(get_args(AimName)), set(get_args(What))) == (set(AIMS), set(HEATS))
    assert 1 / 240 <= BOT_TICK_S <= 1 / 20
