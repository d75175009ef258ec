"""A round as it is played: cues by a table of what happens, objectives, who wins; and a walk within one."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.sites.play.aims import OBJECTIVES, RESOURCES, Resource
from fernfield.work.sites.play.cues import CUES, Cue
from fernfield.work.sites.play.rounds import Round
from fernfield.work.sites.play.rules import RULES, Rules
from fernfield.work.sites.rows import THINGS, Piece

STEP = 0.5
FEN = {"plot": "fen"}
OUT, IN, POST = (10.0, 10.0), (50.0, 50.0), (80.0, 20.0)


@pytest.fixture
def fen(world: OpenWorld) -> OpenWorld:
    """A plot "fen" around 50, 50, a cairn at 80, 20, and a hut at 20, 80."""
    world.edit(put(PLOTS, "fen", Plot(name="The fen", points=((40, 40), (60, 40), (60, 60), (40, 60)))))
    world.edit(put(THINGS, "post", Piece(kit="cairn", name="The post", x=POST[0], y=POST[1])))
    world.edit(put(THINGS, "hut", Piece(kit="cairn", name="The hut", x=20, y=80)))
    return world


def played(
    world: OpenWorld, *stays: tuple[float, dict[str, tuple[float, float]]], teams: tuple[int, ...] = (1,)
) -> Round:
    """A round in which everybody is at a place for so long, one after the other; "a" of the first team, "b" …"""
    with world.lock:
        found = Round(world, world.first_land)
    for name, team in zip("abc", teams, strict=False):
        found.join(name, team, "person" if team == 1 else "cart", *stays[0][1].get(name, OUT))
    for seconds, places in stays:
        for _ in range(round(seconds / STEP)):
            found.step(STEP, places)
    return found


def words(found: Round) -> list[tuple[float, str]]:
    return [(one.seconds, one.words) for one in found.said]


SAY = {"sort": "tell", "text": "Hark"}
WALKED = ((2.0, {"a": OUT}), (3.0, {"a": IN}), (2.0, {"a": OUT}), (1.0, {"a": IN}))
CASES: tuple[tuple[str, dict[str, Any], list[float]], ...] = (
    ("enters, once", {"when": [{"sort": "enters", "where": FEN}]}, [2.5]),
    ("enters, each time", {"when": [{"sort": "enters", "where": FEN}], "repeats": "each"}, [2.5, 7.5]),
    ("every 4 s", {"when": [{"sort": "enters", "where": FEN}], "repeats": "every", "every_s": 4}, [2.5, 7.5]),
    ("every 6 s", {"when": [{"sort": "enters", "where": FEN}], "repeats": "every", "every_s": 6}, [2.5]),
    ("leaves", {"when": [{"sort": "leaves", "where": FEN}]}, [5.5]),
    ("stays", {"when": [{"sort": "stays", "where": FEN, "seconds": 2}], "repeats": "each"}, [4.5]),
    ("another team", {"when": [{"sort": "enters", "where": FEN, "who": {"team": 2}}]}, []),
    ("a walker as it was called", {"when": [{"sort": "enters", "where": FEN, "who": {"walker": "walker"}}]}, [2.5]),
    ("another walker", {"when": [{"sort": "enters", "where": FEN, "who": {"walker": "cart"}}]}, []),
    ("a thing", {"when": [{"sort": "enters", "where": {"thing": "post", "reach_m": 5}}]}, []),
    ("after", {"when": [{"sort": "after", "seconds": 3}], "repeats": "each"}, [3.0]),
    ("any", {"when": [{"sort": "after", "seconds": 1}, {"sort": "enters", "where": FEN}], "repeats": "each"},
     [1.0, 2.5, 7.5]),
    ("all", {"when": [{"sort": "after", "seconds": 1}, {"sort": "leaves", "where": FEN}], "joined": "all"}, [5.5]),
    ("left out", {"when": [{"sort": "after", "seconds": 1}], "off": True}, []),
)  # fmt: skip


@pytest.mark.parametrize(("said", "at"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_when_a_cue_goes_off(fen: OpenWorld, said: dict[str, Any], at: list[float]) -> None:
    fen.edit(put(CUES, "one", Cue.model_validate({"name": "One", "then": [SAY], **said})))
    assert [when for when, text in words(played(fen, *WALKED)) if text == "Hark"] == at


def test_cues_count_set_off_others_move_open_give_and_end(fen: OpenWorld) -> None:
    enters = {"sort": "enters", "where": FEN}
    for key, said in {
        "count": {"when": [enters], "repeats": "each", "then": [{"sort": "count", "counter": "visits"}]},
        "two": {"when": [{"sort": "counted", "counter": "visits", "number": 2}], "then": [
            {"sort": "give", "of": "peat", "amount": 3}, {"sort": "vanish", "thing": "post"},
            {"sort": "sound", "name": "horn"}]},
        "after two": {"when": [{"sort": "cued", "cue": "two"}], "then": [SAY]},
        "circle": {"when": [{"sort": "cued", "cue": "circle"}, {"sort": "cued", "cue": "two"}], "repeats": "each",
                   "then": [{"sort": "count", "counter": "round and round"}]},
        "back": {"when": [enters], "then": [{"sort": "move", "thing": "hut"}]},
        "end": {"when": [{"sort": "after", "seconds": 8}], "then": [{"sort": "end", "team": 2}]},
    }.items():  # fmt: skip
        fen.edit(put(CUES, key.replace(" ", "-"), Cue.model_validate({"name": key, **said, "when": [
            {**one, "cue": one["cue"].replace(" ", "-")} if "cue" in one else one for one in said["when"]
        ]})))  # fmt: skip
    with fen.lock:
        found = Round(fen, fen.first_land)
    found.join("a", None, "person", *OUT)
    moved = [dict(found.step(STEP, {"a": place})) for place in (OUT, IN, OUT, IN)]
    assert moved == [{}, {"a": (20, 80)}, {}, {}]
    assert found.fired == {"count": 2, "two": 1, "after-two": 1, "circle": 64, "back": 1}
    assert found.gone == {"post"}
    for _ in range(20):
        found.step(STEP, {"a": OUT})
    assert (found.over, found.won, found.seconds) == (True, 2, 8)
    # What it begins with is what it goes on with.
    assert found.told("a")["team"] == 1


HOLD = {"sort": "hold", "name": "Weir", "x": 50, "y": 50, "seconds": 2, "reach_m": 5}
ROUNDS: tuple[tuple[str, dict[str, Any], Any, int | None, str], ...] = (
    ("held alone", HOLD, ((1.0, {"a": OUT, "b": OUT}), (2.5, {"a": IN, "b": OUT})), 1, "Weir is held by team 1"),
    ("held by two is held by nobody", HOLD, ((4.0, {"a": IN, "b": IN}),), None, ""),
    ("for the other team", {**HOLD, "for_team": 2}, ((4.0, {"a": IN, "b": OUT}),), None, ""),
    ("reached", {**HOLD, "sort": "reach"}, ((1.0, {"a": OUT, "b": IN}),), 2, "Weir is done by team 2"),
    ("taken there", {**HOLD, "sort": "take", "thing": "post"},
     ((1.0, {"a": POST, "b": OUT}), (1.0, {"a": IN, "b": OUT})), 1, "The post is carried by team 1"),
    ("guarded", {**HOLD, "sort": "guard", "thing": "post", "team": 2}, ((4.0, {"a": OUT, "b": OUT}),), 2,
     "done by team 2"),
)  # fmt: skip


@pytest.mark.parametrize(
    ("said", "stays", "won", "text"), [case[1:] for case in ROUNDS], ids=[case[0] for case in ROUNDS]
)
def test_objectives_are_done_and_a_round_is_won(
    fen: OpenWorld, said: dict[str, Any], stays: Any, won: int | None, text: str
) -> None:
    fields = {name: value for name, value in said.items() if name != "seconds" or said["sort"] in ("hold", "guard")}
    fen.edit(put(OBJECTIVES, "weir", OBJECTIVES.checked(fields)))
    win = {"wins": [[{"sort": "done", "objective": "weir"}]]}
    fen.edit(put(RULES, "world", Rules.model_validate(win)))
    found = played(fen, *stays, teams=(1, 2))
    assert (found.won, found.over) == (won, won is not None), words(found)
    assert any(text in one for _, one in words(found)) or not text


def test_what_is_gathered_comes_back_and_time_runs_out(fen: OpenWorld) -> None:
    fen.edit(put(RESOURCES, "peat", Resource(name="Stack", of="peat", amount=4, back_s=3, x=50, y=50)))
    rules = {"wins": [[{"sort": "gathered", "of": "peat", "amount": 8}, {"sort": "over"}]], "time_s": 12}
    fen.edit(put(RULES, "world", Rules.model_validate(rules)))
    found = played(fen, (3.0, {"a": IN}))
    assert found.told("a")["bag"] == {"peat": 4}
    for _ in range(40):
        found.step(STEP, {"a": IN})
    assert (found.won, found.seconds) == (1, 12)
    assert played(fen, (20.0, {"a": OUT})).won is None


def test_a_walk_in_a_round_goes_where_a_gate_has_opened(client: TestClient) -> None:
    spec = {"name": "W", "width_m": 80, "depth_m": 60, "spacing_m": 1, "elevation_m": 5}
    base = f"/api/worlds/{client.post('/api/worlds', json=spec).json()['id']}"
    wall = {"sort": "wall", "kit": "block", "x": 40, "y": 0, "points": [(0, 0), (0, 60)], "name": "Bar"}
    assert client.put(f"{base}/things/bar", json=wall).status_code == 200
    cue = {"name": "Opens", "when": [{"sort": "after", "seconds": 2}], "then": [{"sort": "open", "thing": "bar"}]}
    assert client.put(f"{base}/cues/opens", json=cue).status_code == 200
    said = {"x": 36, "y": 30, "wishes": [{"seconds": 4, "ahead": 1, "facing": 90}]}
    shut = client.post(f"{base}/walks", json=said).json()
    assert (shut["said"], shut["track"][-1][1] < 40) == ([], True)
    through = client.post(f"{base}/walks", json={**said, "plays": True, "keep": "Through"}).json()
    assert through["said"] == [{"t": 2, "words": "Opens: Bar opens"}]
    assert through["track"][-1][1] > 43
    assert client.post(f"{base}/walks/{through['key']}/again").json()["apart_s"] is None
