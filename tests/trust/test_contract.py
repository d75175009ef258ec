"""The whole contract, asked at random: no call, however odd, is our fault; and neither is any message of the socket."""

from __future__ import annotations

import json
import os
import warnings
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st
from jsonschema_rs import validator_for

from fernfield.web.app import create_app
from fernfield.work.studio import Studio
from fernfield.work.worlds.intake import Reading
from tests.conftest import ended, live

CALLS = int(os.environ.get("FERN_CALLS", "2"))
"""Calls of each operation; more by hand: FERN_CALLS=200."""

SEED = 20_261_126
WORLD = {"name": "Contract", "width_m": 96, "depth_m": 64, "spacing_m": 1, "elevation_m": 5}


def test_no_call_of_the_contract_is_our_fault(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Every operation of /openapi.json, with values that fit it and values that do not; ids of what is there. What is
    answered is what the document says."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import schemathesis

    app = create_app(Studio(tmp_path / "data"))
    counts: dict[str, int] = {}
    faults: list[str] = []
    with TestClient(app, base_url="http://127.0.0.1:8127", raise_server_exceptions=False) as client:

        def stale(world_id: str) -> bool:
            return all(row.id != world_id for row in app.state.studio.store.list_worlds())

        def fresh() -> dict[str, str]:
            made = client.post("/api/worlds", json=WORLD).json()
            return {"world": made["id"], "tract": made["tracts"][0]["id"], "collection": "things"}

        ids = fresh()
        document = client.get("/openapi.json").json()
        schema = schemathesis.openapi.from_dict(document)
        for operation in schema.get_all_operations():
            made = operation.ok()
            if made.path.endswith(("/events", "/changes")):
                continue

            _ask(client, made, _answers(document, made), ids, (stale, fresh), counts, faults)
        for job in list(app.state.studio.jobs._jobs.values()):
            if "our side" in job.message:
                faults.append(f"job {job.kind.name}: {job.message}")
    with capsys.disabled():
        print(f"\ncontract: seed {SEED}, {sum(counts.values())} calls, {counts}")
    assert faults == []
    assert counts["2xx"] > 50
    assert counts["4xx"] > 50


def _answers(document: Any, made: Any) -> Any:
    """What checks the answer of an operation that went well against its schema."""
    answers = document["paths"][made.path][made.method.lower()]["responses"]
    good = next(answer for code, answer in answers.items() if code.startswith("2"))
    told = good.get("content", {}).get("application/json")
    schema = told["schema"] if told else {}
    # Whatever answers in JSON says how.
    assert told is None or schema not in ({}, {"type": "object", "additionalProperties": True}), made.path
    # Made when the first answer comes: most calls are refused.
    return cache(lambda: validator_for({**schema, "components": document["components"]}))


def _ask(
    client: TestClient, made: Any, answers: Any, ids: dict[str, str], worlds: Any, counts: dict[str, int],
    faults: list[str],
) -> None:  # fmt: skip
    """So many calls of one operation; what is asked for is a world that is there, made anew when it was deleted."""

    stale, fresh = worlds

    @seed(SEED)
    @given(case=made.as_strategy())
    @settings(
        max_examples=CALLS, deadline=None, database=None, phases=(Phase.generate,),
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    def call(case: Any) -> None:
        if stale(ids["world"]):
            ids.update(fresh())
        case.path_parameters.update({k: v for k, v in ids.items() if k in case.path_parameters})
        answer = client.send(_request(client, case))
        sort = f"{answer.status_code // 100}xx"
        counts[sort] = counts.get(sort, 0) + 1
        if answer.status_code >= 500:
            faults.append(f"{made.method} {made.path}: {answer.text[:200]} {case!r}"[:600])
        elif answer.status_code >= 400 and made.method.upper() != "HEAD":
            assert answer.json()["detail"], made.path
        elif answer.content and "json" in (sort := answer.headers.get("content-type", "")) and "ndjson" not in sort:
            wrong = [f"{error.instance_path}: {error.message}"[:200] for error in answers().iter_errors(answer.json())]
            faults.extend(f"{made.method} {made.path} answers {one}" for one in wrong)

    call()


def _request(client: TestClient, case: Any) -> Any:
    kwargs = case.as_transport_kwargs(base_url="http://127.0.0.1:8127")
    for name in ("timeout", "cert", "verify", "allow_redirects", "cookies"):
        kwargs.pop(name, None)
    kwargs["headers"] = {k: v for k, v in dict(kwargs.get("headers") or {}).items() if k.lower() != "user-agent"}
    return client.build_request(**kwargs)


# The socket

NUMBER = st.one_of(st.floats(), st.integers(-(2**70), 2**70), st.sampled_from([0, 1, -1, 1e-308, 1e308, 50, 0.5]))
JUNK = st.recursive(
    st.one_of(st.none(), st.booleans(), NUMBER, st.text(max_size=12)),
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=8), inner, max_size=4)),
    max_leaves=8,
)
STROKE = st.fixed_dictionaries(
    {"tool": st.sampled_from(["raise", "lower", "grade", "roughen", "paint", "sow", "open", "nothing"]),
     "radius_m": st.one_of(st.sampled_from([3, 20, 400]), NUMBER), "softness": st.one_of(st.just(0.5), NUMBER),
     "strength": st.one_of(st.just(5), NUMBER)},
    optional={"cover": st.sampled_from(["earth", "x"]), "mix": st.text(max_size=3), "width_m": NUMBER},
)  # fmt: skip
POINT = st.one_of(
    st.tuples(st.floats(0, 96), st.floats(0, 64), st.floats(0, 3)),
    st.lists(NUMBER, max_size=5),
    st.tuples(NUMBER, NUMBER, NUMBER),
)
MESSAGE = st.one_of(
    st.fixed_dictionaries({"is": st.just("begin"), "tract": st.sampled_from(["T", "", "x"]), "stroke": STROKE}),
    st.fixed_dictionaries({"is": st.just("move"), "samples": st.lists(POINT, max_size=6)}),
    st.fixed_dictionaries({"is": st.sampled_from(["end", "abandon", "drawn", "stand", "walk", "hello", ""])}),
    st.fixed_dictionaries({"is": st.sampled_from(["spot", "walk"]), "x": NUMBER, "y": NUMBER}, optional={"x0": NUMBER}),
    st.fixed_dictionaries({"is": st.just("wish"), "ahead": NUMBER, "aside": NUMBER, "facing": NUMBER}),
    st.fixed_dictionaries(
        {
            "is": st.just("view"),
            "level": st.integers(-3, 9),
            "row0": NUMBER,
            "col0": NUMBER,
            "row1": NUMBER,
            "col1": NUMBER,
        },
        optional={"overlays": JUNK, "keep_to": JUNK, "contour_m": JUNK, "heights": st.booleans()},
    ),
    JUNK,
)


@pytest.fixture(scope="module")
def table(tmp_path_factory: pytest.TempPathFactory) -> Any:
    studio = Studio(tmp_path_factory.mktemp("socket") / "data")
    with TestClient(create_app(studio), base_url="http://127.0.0.1:8127") as client:
        made = client.post("/api/worlds", json=WORLD).json()
        yield client, made["id"], made["tracts"][0]["id"]


@seed(SEED)
@given(messages=st.lists(MESSAGE, min_size=1, max_size=12), raw=st.binary(max_size=6))
@settings(max_examples=60, deadline=None, database=None, suppress_health_check=list(HealthCheck))
def test_no_message_of_the_socket_is_our_fault(table: Any, messages: list[Any], raw: bytes) -> None:
    """Whatever a page says, in any order: it is answered in words, and the line goes on."""
    client, world, tract = table
    with client.websocket_connect(live(world)) as socket:
        for message in messages:
            if isinstance(message, dict) and message.get("tract") == "T":
                message = {**message, "tract": tract}
            socket.send_text(json.dumps(message))
        socket.send_bytes(raw)
        socket.send_text('{"is": "abandon"}')
        socket.send_text('{"is": "spot", "x": 7.25, "y": 7.5, "section": false}')
        for _ in range(4_000):
            heard = socket.receive()
            if heard.get("text") is None:
                socket.send_text('{"is": "drawn"}')
                continue
            said = json.loads(heard["text"])
            assert "our side" not in said.get("message", ""), messages
            spot = said.get("spot") if said["is"] == "spot" else None
            if spot is not None and spot["x"] == 7.25:
                break
        else:
            raise AssertionError("the line did not go on")
    assert not client.app.state.studio.world(world).holds


def test_what_random_calls_found_is_gone(tmp_path: Path) -> None:
    """By longer runs by hand (80 calls of each): each of these was our fault once."""
    studio = Studio(tmp_path / "data")
    with TestClient(create_app(studio), base_url="http://127.0.0.1:8127") as client:
        made = client.post("/api/worlds", json=WORLD).json()
        things = f"/api/worlds/{made['id']}/things"
        client.put(f"{things}/a", json={"sort": "piece", "kit": "beacon", "x": 5, "y": 5})
        for nothing in ({"x": None}, {"y": None}, {"x": None, "y": None}, {"x": 7, "y": None}):
            answer = client.patch(f"{things}/a?in=world", json=nothing)
            assert answer.status_code < 500, answer.text
        # The same package twice at a time.
        jobs = [studio.start_handover(made["id"]) for _ in range(6)]
        assert [ended(job).state for job in jobs] == ["done"] * 6
        assert [p.suffix for p in (tmp_path / "data" / "packages").iterdir()] == [".zip"]
        # A file that is dropped before its turn comes.
        sent = client.post("/api/files", files={"file": ("a", b"x" * 900)}).json()
        ended(studio.jobs.get(sent["job"]))
        waits = studio.waiting.get(sent["file"])
        waits.path.unlink()
        job = ended(studio.start_reading(waits, Reading()))
        assert job.state == "failed"
        assert "dropped" in job.message
