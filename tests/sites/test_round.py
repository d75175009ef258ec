"""What a round is played for: teams, how each stands to each, objectives, resources, rules, and cues as data."""

from __future__ import annotations

import itertools
import json
import random
import re
from typing import Any

import jsonschema_rs
import numpy as np
import pytest
from colour import XYZ_to_Lab, sRGB_to_XYZ
from colour.blindness import CVD_MATRICES_MACHADO2010
from fastapi.testclient import TestClient
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from fernfield.core.errors import FernError
from fernfield.core.sites.teams import COLOURS, MARKS, SEEN_BY, alike, lab_of
from fernfield.web.page.schemas import schema_of
from fernfield.work.kernel.commands import put, remove
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY, Symmetry
from fernfield.work.sites.play.aims import CAMPS, OBJECTIVES, Camp, Hold
from fernfield.work.sites.play.cues import CUES, Cue, circles, sentence
from fernfield.work.sites.play.teams import TEAMS, Team, stands_to

PLACE = {"x": 50.0, "y": 50.0}


def test_teams_are_told_apart_by_everybody() -> None:
    for who in SEEN_BY:
        apart = [float(np.linalg.norm(a - b)) for a, b in itertools.combinations(lab_of(COLOURS, who), 2)]
        assert min(apart) > 20
    # G. M. Machado and others (2009), their table as colour-science carries it.
    for who, kind in (("protanopia", "Protanomaly"), ("deuteranopia", "Deuteranomaly"), ("tritanopia", "Tritanomaly")):
        published = CVD_MATRICES_MACHADO2010[kind][1.0]
        assert np.allclose(SEEN_BY[who], published, atol=1e-6)
    screen = np.array([[int(one[i : i + 2], 16) / 255 for i in (1, 3, 5)] for one in COLOURS])
    assert lab_of(COLOURS) == pytest.approx(XYZ_to_Lab(sRGB_to_XYZ(screen)), abs=0.05)
    assert len(set(MARKS)) == len(COLOURS) == 8
    # A red and a green of one lightness: not for who sees no red.
    assert {who for *_, who in alike(["#8a6410", "#6b6b1f"])} == {"protanopia"}
    assert alike(["#000000", "#ffffff"]) == []


@given(st.lists(st.tuples(st.integers(0, 7), st.integers(0, 7)), max_size=16))
def test_circles_are_what_can_be_come_back_to(pairs: list[tuple[int, int]]) -> None:
    links = {str(k): {str(b) for a, b in pairs if a == k} for k in range(8)}
    reach = np.zeros((8, 8), bool)
    for a, b in pairs:
        reach[a, b] = True
    for k in range(8):
        # S. Warshall 1962, doi:10.1145/321105.321107.
        reach |= reach[:, [k]] & reach[[k]]
    back = [str(k) for k in range(8) if reach[k, k]]
    assert sorted(itertools.chain(*circles(links))) == back
    for one in circles(links):
        assert all(reach[int(a), int(b)] for a in one for b in one)


def test_no_number_mark_or_colour_twice_and_eight_at_most(small: tuple[TestClient, str]) -> None:
    client, base = small
    for _ in range(8):
        made = client.post(f"{base}/teams", json={})
        assert made.status_code == 201, made.text
    rows = client.get(f"{base}/teams").json()
    assert [row["number"] for row in rows] == list(range(1, 9))
    assert tuple(row["colour"] for row in rows) == COLOURS
    for body, words in (
        ({}, "a world has 8 teams at most"),
        ({"number": 9}, "Number must be at most 8, not 9"),
        ({"number": 3}, "a world holds at most 8 teams"),
    ):
        answer = client.post(f"{base}/teams", json=body)
        assert answer.status_code in (409, 422)
        assert words in answer.text
    first, second = rows[0]["key"], rows[1]["key"]
    for name in ("number", "mark", "colour"):
        answer = client.patch(f"{base}/teams/{second}", json={name: rows[0][name]})
        assert f"Team 1 has the {name} {rows[0][name]} already" in answer.text
    assert "players_most" in client.patch(f"{base}/teams/{first}", json={"players_least": 9}).text


def test_relations_go_both_ways_unless_it_is_said(world: OpenWorld) -> None:
    for number, key in enumerate(("reeve", "sluice", "heron"), 1):
        row = Team(name=key, number=number, colour=COLOURS[number - 1], mark=MARKS[number - 1])  # type: ignore[arg-type]
        world.edit(put(TEAMS, key, row))
    relation = world.house.collections["relations"]

    def say(key: str, **said: Any) -> None:
        world.edit(put(relation, key, relation.checked(said)))

    say("a", one="reeve", other="sluice", stands="war")
    say("b", one="heron", other="reeve", stands="peace", back="unmet")
    keys = ("reeve", "sluice", "heron")
    seen = {(a, b): stands_to(world, a, b) for a in keys for b in keys}
    assert seen["reeve", "sluice"] == seen["sluice", "reeve"] == "war"
    assert (seen["heron", "reeve"], seen["reeve", "heron"]) == ("peace", "unmet")
    assert seen["heron", "sluice"] == "neutral"
    for said, words in (
        ({"one": "reeve", "other": "reeve"}, "not to itself"),
        ({"one": "sluice", "other": "reeve"}, "is said already, as a"),
        ({"one": "reeve", "other": "nobody"}, "nobody"),
    ):
        with pytest.raises(FernError, match=words):
            say("c", **said)


def test_images_of_objectives_are_the_next_teams(world: OpenWorld) -> None:
    world.edit(put(SYMMETRY, "world", Symmetry(kind="turn", x=150, y=150, times=4)))
    world.edit(put(OBJECTIVES, "gate", Hold(name="Gate", team=2, for_team=8, **PLACE)))
    world.edit(put(CAMPS, "camp", Camp(name="Camp", turn_deg=30, **PLACE)))
    rows = dict(world.each(OBJECTIVES))
    assert {(row.x, row.y, row.team, row.for_team) for row in rows.values()} == {
        (50, 50, 2, 8), (50, 250, 3, 1), (250, 250, 4, 2), (250, 50, 5, 3),
    }  # fmt: skip
    assert sorted(row.turn_deg for _, row in world.each(CAMPS)) == [30, 120, 210, 300]
    # Whichever is moved, the others follow; and they go together.
    key = next(key for key, row in rows.items() if (row.x, row.y) == (250, 250))
    world.edit(put(OBJECTIVES, key, rows[key].model_copy(update={"x": 240.0})))
    assert world.row(OBJECTIVES, "gate").x == pytest.approx(60)
    world.edit(remove(OBJECTIVES, key))
    assert world.each(OBJECTIVES) == []


@pytest.fixture
def small(client: TestClient) -> tuple[TestClient, str]:
    spec = {"name": "T", "width_m": 200, "depth_m": 200, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    return client, f"/api/worlds/{client.post('/api/worlds', json=spec).json()['id']}"


def test_what_the_checks_find_of_a_round(small: tuple[TestClient, str]) -> None:
    client, base = small

    def add(rows: str, **body: Any) -> str:
        answer = client.post(f"{base}/{rows}", json=body)
        assert answer.status_code == 201, answer.text
        return str(answer.json()["key"])

    def found(check: str) -> set[str]:
        return {one["words"] for one in client.get(f"{base}/findings").json() if one["check"] == check}

    add("things", sort="start", x=10, y=10)
    assert found("teams") | found("rules") | found("cues") == set()
    add("teams", name="Reeve", colour="#8a6410")
    add("teams", name="Sluice", colour="#6b6b1f")
    assert found("teams") == {"Sluice has no start.", "The colours of Reeve and Sluice look alike with protanopia."}
    assert found("rules") == {"Nothing wins a round.", "The rules have up to 8 players, and there is 1 start."}
    add("things", sort="start", x=190, y=190)
    gate = add("objectives", sort="hold", name="Gate", for_team=1, **PLACE)
    ways = [[{"sort": "done", "objective": gate}], [{"sort": "gathered", "of": "Peat", "amount": 100}]]
    client.patch(f"{base}/rules", json={"wins": ways, "players_most": 2})
    assert "Sluice can never win by the rules." in found("teams")
    assert found("rules") == {"What wins asks that 100 of peat is gathered, which cannot be; there is 0."}
    add("resources", name="East cutting", of="PEAT ", amount=60, x=180, y=180)
    add("resources", name="West cutting", of="peat", amount=40, x=20, y=20)
    add("resources", name="Reeve's own", of="peat", amount=5, x=181, y=180, team=1)
    add("camps", name="Herons", x=175, y=180, reach_m=10, team=7)
    assert found("rules") == set()
    assert "Herons belongs to team 7, which is not there." in found("teams")
    (total,) = client.get(f"{base}/totals").json()
    assert total == {"of": "peat", "amount": 105, "comes_back": False, "guarded": 2, "shares": {"1": 45, "2": 60}}
    plot = add("plots", name="Yard", points=[[1, 1], [30, 1], [30, 30]])
    enters = {"sort": "enters", "where": {"plot": plot}}
    counts = {"sort": "count", "counter": "tide"}
    first = add("cues", name="Low", when=[{"sort": "counted", "counter": "ebb", "number": 3}], then=[counts])
    add("cues", name="High", when=[enters, {"sort": "cued", "cue": first}], joined="all", repeats="each", then=[counts])
    add("cues", name="Loop", when=[{"sort": "counted", "counter": "tide", "number": 2}], repeats="each", then=[counts])
    add("cues", name="Late", when=[{"sort": "after", "seconds": 700}], then=[{"sort": "end", "team": 2}])
    assert found("cues") == {"Low can never go off: nothing counts ebb up.", "Loop sets itself off."}
    client.put(f"{base}/cues/own", json={"when": [{"sort": "cued", "cue": "own"}], "then": [counts], "name": "Own"})
    assert "Own can never go off: it waits for itself." in found("cues")
    # A cue may let the other team win; and rules say how long there is to.
    assert "Sluice can never win by the rules." not in found("teams")
    client.patch(f"{base}/rules", json={"time_s": 600})
    assert "Late can never go off: a round lasts 600 s." in found("cues")
    refused = client.delete(f"{base}/plots/{plot}")
    assert refused.json()["words"] == "The plot Yard is named by the cue High."


def test_random_cues_are_read_as_sentences_or_refused_in_words(world: OpenWorld) -> None:
    """A thousand documents: what the API takes fits the published JSON Schema, and a sentence comes of it."""
    chance = random.Random(7)
    schema = jsonschema_rs.validator_for(schema_of(CUES))
    numbers = (1, 2, 3, 5, 8, 13, 2.5, -4, "three", None, 10**7)
    words = ("tide", "ebb", "gate 2", "in", "", "a\x00b", "x" * 500, 4)

    def some(*every: Any) -> Any:
        return chance.choice(every)

    def where() -> Any:
        good = {"plot": "yard"}, {"thing": "gate"}, {"thing": "gate", "reach_m": some(*numbers)}
        return some(*good, *good, {}, {"plot": "a", "thing": "b"}, 3)

    def when() -> Any:
        return some(
            {"sort": some("enters", "stays", "leaves", "flies"), "where": where(),
             "who": some({}, {}, {"team": some(1, 9)})},
            {"sort": "counted", "counter": some(*words), "number": some(*numbers)},
            {"sort": "after", "seconds": some(*numbers)}, {"sort": "cued", "cue": some("first", "NO", 3)}, {}, None,
        )  # fmt: skip

    def then() -> Any:
        return some(
            {"sort": "tell", "text": some(*words)}, {"sort": "open", "thing": "gate"}, {"sort": "end"},
            {"sort": "count", "counter": some(*words), "by": some(*numbers)}, {"sort": "run", "code": "1"},
            {"sort": "give", "of": "peat", "amount": some(*numbers), "more": 1},
        )  # fmt: skip

    taken, told = 0, list[str]()
    for number in range(1000):
        said = {"name": f"Cue {number}", "when": [when() for _ in range(some(1, 1, 2, 0))], "then": [then()]}
        try:
            cue = CUES.checked(said)
        except ValidationError as error:
            told += [one.message for one in refused(error.errors(), Cue)]
            continue
        taken += 1
        assert schema.is_valid(json.loads(cue.model_dump_json()))
        assert sentence(cue, lambda _, key: key.title()).startswith("When ")
    assert 60 < taken < 940
    assert all(re.match(r"[\w ,]+ (must|is|has|have|needs) ", one) for one in told), set(told)


def test_a_cue_reads_as_it_is_meant() -> None:
    cue = CUES.checked(
        {
            "name": "Tide", "joined": "all", "repeats": "every", "every_s": 30,
            "when": [
                {"sort": "stays", "where": {"thing": "gate", "reach_m": 4}, "who": {"team": 2}, "seconds": 5},
                {"sort": "changes", "objective": "sluice"},
            ],
            "then": [
                {"sort": "open", "thing": "gate"}, {"sort": "take", "of": "Peat", "amount": 5},
                {"sort": "end", "team": 2},
            ],
        }
    )  # fmt: skip
    assert sentence(cue, lambda collection, key: f"the {collection[:-1]} {key}") == (
        "When somebody of team 2 stays within 4 m of the thing gate for 5 s and the objective sluice changes hands: "
        "the thing gate opens, 5 of peat is taken, the round ends and team 2 has won. At most every 30 s."
    )
