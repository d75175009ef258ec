"""What comes in is bounded and refused in words, whoever sends it; and who may come in at all."""

from __future__ import annotations

import asyncio
import json
import logging
import threading
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from starlette.responses import Response
from starlette.websockets import WebSocketDisconnect
from typer.testing import CliRunner

import fernfield.web.kernel.gate.access
from fernfield.cli import app as cli
from fernfield.client import Client
from fernfield.web.app import create_app, takes_files
from fernfield.web.kernel.gate.access import TRIES, Access, kept_at, make_phrase, token_for
from fernfield.web.kernel.gate.guard import POLICY, Guard
from fernfield.web.kernel.settings import Settings
from fernfield.work.studio import Studio
from tests.conftest import live

WORLD = {"name": "Border", "width_m": 64, "depth_m": 64, "spacing_m": 1}
PHRASE, LOOK = "sedge and silt", "from afar only"


# Bounds


def test_only_calls_that_take_files_take_large_bodies(client: TestClient) -> None:
    """A path that ends like one of them, or a body that calls itself a form, is no call that takes files."""
    paths = client.get("/openapi.json").json()["paths"]
    described = {
        (method.upper(), path)
        for path, calls in paths.items()
        for method, call in calls.items()
        if "multipart/form-data" in call.get("requestBody", {}).get("content", {})
    }
    for path, calls in paths.items():
        for method in calls:
            assert takes_files({"method": method.upper(), "path": path}) == ((method.upper(), path) in described), path
    world = client.post("/api/worlds", json=WORLD).json()["id"]
    big = {"file": ("x", b"y" * (17 << 20))}
    for method, path in (
        ("PUT", f"/api/worlds/{world}/plots/import"),
        ("POST", f"/api/worlds/{world}/plots"),
        ("POST", "/api/worlds"),
        ("POST", "/sign-in"),
    ):
        answer = client.request(method, path, files=big)
        assert answer.status_code == 413, path
        assert "at most 16 MiB" in answer.json()["detail"]
    assert client.post("/api/worlds/import", files=big, data={"name": "x"}).status_code == 202


@pytest.mark.parametrize("number", [2**53 + 1, 2**63, 2**64, -1])
def test_no_number_of_a_revision_is_our_fault(client: TestClient, number: int) -> None:
    made = client.post("/api/worlds", json=WORLD).json()
    world, tract = f"/api/worlds/{made['id']}", f"/api/tracts/{made['tracts'][0]['id']}"
    for path in (
        f"{tract}/spot?x=1&y=1&at={number}", f"{tract}/heights.asc?at={number}", f"{tract}/plan.png?at={number}",
        f"{world}/revisions?before={number}", f"{world}/revisions/{number}/where.png",
    ):  # fmt: skip
        answer = client.get(path)
        assert answer.status_code == 422, path
        assert str(number)[:10] in answer.text
    assert client.put(f"{world}/revisions/{number}/keepsake", json={"name": "x"}).status_code == 422
    assert client.post(f"{tract}/reset", json={"to": "revision", "revision": number}).status_code == 422


def test_no_measure_is_our_fault(client: TestClient) -> None:
    made = client.post("/api/worlds", json={**WORLD, "spacing_m": 0.5}).json()
    tract = f"/api/tracts/{made['tracts'][0]['id']}"
    for query in ("section?y=1e308", "section?y=1&x0=-1e308", "plan.png?x1=1e-308", "plan.png?x0=63.9999999&x1=64"):
        assert client.get(f"{tract}/{query}").status_code == 422, query
    stroke = {"tool": "raise", "radius_m": 5, "softness": 0.5, "strength": 1}
    short = client.post(f"{tract}/strokes", json={**stroke, "path": [[50, 50, 0], [60, 60, 1e-308]]})
    assert short.status_code == 200
    for spacing in (5e-324, 1e-9, 0, 1001):
        answer = client.post("/api/worlds", json={**WORLD, "spacing_m": spacing})
        assert answer.status_code == 422
        assert "spacing_m" in answer.text
        path = f"{tract}/respace"
        assert client.post(path, json={"spacing_m": spacing}).status_code == 422


def test_a_fault_of_ours_has_the_policy_and_a_number_that_the_log_knows(
    client: TestClient, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = client.post("/api/worlds", json=WORLD).json()
    monkeypatch.setattr("fernfield.web.page.tracts.spot", lambda *_: 1 / 0)
    answer = client.get(f"/api/tracts/{made['tracts'][0]['id']}/spot?x=1&y=1")
    assert answer.status_code == 500
    assert answer.headers["content-security-policy"] == POLICY
    assert answer.headers["cache-control"] == "no-store"
    assert answer.headers["content-type"] == "application/problem+json"
    detail = answer.json()["detail"]
    number = detail.partition("number ")[2].partition(")")[0]
    (record,) = [r for r in caplog.records if r.exc_info and number in r.getMessage()]
    assert record.exc_info is not None
    assert record.exc_info[0] is ZeroDivisionError


@pytest.mark.parametrize("origin", ["http://[", "http://[::1", "//", "null", "http://elsewhere.example"])
def test_what_says_it_comes_from_elsewhere_or_from_nowhere_changes_nothing(client: TestClient, origin: str) -> None:
    answer = client.post("/api/worlds", json=WORLD, headers={"origin": origin})
    assert (answer.status_code, answer.json()["title"]) == (403, "Forbidden")


def test_what_is_cut_off_when_the_server_stops_is_told_so(caplog: pytest.LogCaptureFixture) -> None:
    """uvicorn cancels what is not done in its time; that is no fault of ours, and has no traceback."""

    async def endless(scope: Any, receive: Any, send: Any) -> None:
        await asyncio.Event().wait()

    sent: list[Any] = []

    async def stopped() -> None:
        async def send(message: Any) -> None:
            sent.append(message)

        guard = Guard(
            endless, access=Access(Path("/nowhere"), "", ""), upload_bytes=1, names=[], elsewhere=False,
            takes_files=lambda _: False, fault=lambda *_: Response(), room=lambda: 0, told=lambda *_: None,
        )  # fmt: skip
        scope = {"type": "http", "method": "GET", "path": "/healthz", "headers": [(b"host", b"127.0.0.1")]}
        asked = asyncio.create_task(guard(scope, lambda: asyncio.sleep(0), send))
        await asyncio.sleep(0)
        asked.cancel()
        await asked

    # In a thread of its own: another test may have a loop in this one.
    thread = threading.Thread(target=asyncio.run, args=(stopped(),))
    thread.start()
    thread.join()
    assert sent[0]["status"] == 503
    assert (b"retry-after", b"5") in sent[0]["headers"]
    assert "being stopped" in json.loads(sent[1]["body"])["detail"]
    assert not caplog.records


def test_bytes_on_the_socket_are_answered_in_words_and_change_nothing(client: TestClient) -> None:
    made = client.post("/api/worlds", json=WORLD).json()
    with client.websocket_connect(live(made["id"])) as socket:
        assert socket.receive_json()["is"] == "hello"
        socket.send_bytes(b"\x00\xff")
        assert "not bytes" in socket.receive_json()["message"]
        socket.send_text(json.dumps({"is": "spot", "x": 5, "y": 5, "section": False}))
        assert socket.receive_json()["is"] == "spot"


# Who may come in


@pytest.fixture
def closed(tmp_path: Path) -> Any:
    """A server with both phrases."""
    settings = Settings(host="0.0.0.0", phrase=PHRASE, look_phrase=LOOK)
    with TestClient(
        create_app(Studio(tmp_path / "data"), settings), base_url="http://192.0.2.7", follow_redirects=False
    ) as made:
        yield made


def come_in(client: TestClient, phrase: str = PHRASE, name: str = "Wren", to: str = "/") -> Any:
    return client.post("/sign-in", data={"phrase": phrase, "name": name, "to": to})


def test_nobody_comes_in_without_the_phrase(closed: TestClient) -> None:
    page = closed.get("/worlds/w1", headers={"accept": "text/html"})
    assert (page.status_code, page.headers["location"]) == (303, "/sign-in?to=/worlds/w1")
    for method, path in (
        ("GET", "/api/worlds"),
        ("POST", "/api/worlds"),
        ("GET", "/metrics"),
        ("GET", "/openapi.json"),
    ):
        answer = closed.request(method, path, json=WORLD if method == "POST" else None)
        assert answer.status_code == 401, path
        assert answer.headers["www-authenticate"] == "Bearer"
    with pytest.raises(WebSocketDisconnect) as caught, closed.websocket_connect("ws://192.0.2.7/live/w1"):
        pass
    assert caught.value.code == 4401
    for path in ("/healthz", "/static/css/fern.css", "/sign-in"):
        assert closed.get(path).status_code == 200, path
    assert "Access phrase" in closed.get("/sign-in").text


def test_who_signs_in_stands_beside_their_edits(closed: TestClient) -> None:
    answer = come_in(closed, to="/worlds/w1?tract=t")
    assert (answer.status_code, answer.headers["location"]) == (303, "/worlds/w1?tract=t")
    cookie = answer.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    made = closed.post("/api/worlds", json=WORLD).json()
    tract = made["tracts"][0]["id"]
    stroke = {"tool": "raise", "radius_m": 5, "softness": 0.5, "strength": 1, "path": [[20, 20, 0], [30, 20, 1]]}
    assert closed.post(f"/api/tracts/{tract}/strokes", json=stroke).status_code == 200
    # By the socket, and by a job.
    with closed.websocket_connect(f"ws://192.0.2.7/live/{made['id']}") as socket:
        socket.send_text(
            json.dumps({"is": "begin", "tract": tract, "stroke": {k: stroke[k] for k in stroke if k != "path"}})
        )
        socket.send_text(json.dumps({"is": "move", "samples": [[40, 40, 0], [45, 40, 0.5], [50, 40, 1]]}))
        socket.send_text(json.dumps({"is": "end"}))
        while socket.receive_json()["is"] != "ended":
            pass
    job = closed.post(f"/api/tracts/{tract}/weather", json={"kind": "frost", "passes": 2, "repose_deg": 1}).json()[
        "job"
    ]
    while closed.get(f"/api/jobs/{job}").json()["state"] != "done":
        pass
    book = closed.get(f"/api/worlds/{made['id']}/revisions").json()
    assert [step["by"] for step in book] == ["Wren", "Wren", "Wren"]
    # A script says a token, with its own name.
    token = token_for(closed.app.state.studio.data, "Night build", "change")  # type: ignore[attr-defined]
    closed.cookies.clear()
    Client("", token, closed).world(made["id"]).undo()
    (last, *_) = closed.get(f"/api/worlds/{made['id']}/revisions").json()
    assert last["by"] == "Night build"
    for wrong in (token[:-3] + "abc", "", "x" * 5000):
        assert closed.get("/api/worlds", headers={"authorization": f"Bearer {wrong}"}).status_code == 401


def test_who_comes_to_look_changes_nothing(closed: TestClient) -> None:
    come_in(closed)
    made = closed.post("/api/worlds", json=WORLD).json()
    closed.post("/sign-out")
    assert closed.get("/api/worlds").status_code == 401
    assert come_in(closed, LOOK).status_code == 303
    assert len(closed.get("/api/worlds").json()) == 1
    for method, path in (
        ("POST", "/api/worlds"),
        ("DELETE", f"/api/worlds/{made['id']}"),
        ("POST", f"/api/worlds/{made['id']}/undo"),
    ):
        answer = closed.request(method, path, json=WORLD if path == "/api/worlds" else None)
        assert answer.status_code == 403
        assert "look only" in answer.json()["detail"]
    with closed.websocket_connect(f"ws://192.0.2.7/live/{made['id']}") as socket:
        stroke = {"tool": "raise", "radius_m": 5, "softness": 0.5, "strength": 1}
        socket.send_text(json.dumps({"is": "begin", "tract": made["tracts"][0]["id"], "stroke": stroke}))
        assert socket.receive_json()["is"] == "hello"
        assert "look only" in socket.receive_json()["message"]
    looker = token_for(closed.app.state.studio.data, "Camera", "look")  # type: ignore[attr-defined]
    closed.cookies.clear()
    assert closed.post("/api/worlds", json=WORLD, headers={"authorization": f"Bearer {looker}"}).status_code == 403


def test_phrases_cannot_be_tried_for_long(closed: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    for _ in range(TRIES):
        answer = come_in(closed, "a wrong one")
        assert answer.status_code == 422
        assert "not the access phrase" in answer.text
    # The right one neither, from here.
    answer = come_in(closed)
    assert answer.status_code == 429
    assert 1 <= int(answer.headers["retry-after"]) <= 61
    later = fernfield.web.kernel.gate.access.time.monotonic() + 61
    monkeypatch.setattr(fernfield.web.kernel.gate.access.time, "monotonic", lambda: later)
    assert come_in(closed).status_code == 303


@pytest.mark.parametrize("to", ["//elsewhere.example", "https://elsewhere.example", "/\\elsewhere.example", "x"])
def test_signing_in_leads_nowhere_else(closed: TestClient, to: str) -> None:
    assert come_in(closed, to=to).headers["location"] == "/"


def test_sessions_end_with_their_phrase(tmp_path: Path) -> None:
    cookies: Any = None
    for phrase, wanted in ((PHRASE, 200), (PHRASE, 200), ("another phrase", 401)):
        settings = Settings(phrase=phrase)
        with TestClient(create_app(Studio(tmp_path), settings), base_url="http://127.0.0.1", cookies=cookies) as client:
            if cookies is None:
                come_in(client)
                cookies = dict(client.cookies)
            assert client.get("/api/worlds").status_code == wanted


def test_a_server_that_others_reach_needs_a_phrase(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("uvicorn.Server.run", lambda *_a, **_k: None)
    for host in ("0.0.0.0", "::", "192.0.2.7"):
        result = CliRunner().invoke(cli, ["serve", "--host", host, "--data", str(tmp_path), "--port", "0"])
        assert result.exit_code == 1
        assert "set an access phrase first" in str(result.exception)
    for options, words in (
        (["--certificate", str(tmp_path / "none.pem"), "--key", str(tmp_path / "none")], "there is no file"),
        (["--key", __file__], "go together"),
    ):
        result = CliRunner().invoke(cli, ["serve", "--data", str(tmp_path / "new"), "--port", "0", *options])
        assert words in str(result.exception)
    # The first start of all, with a phrase: the folder is not there yet.
    asked = {"FERNFIELD_PHRASE": PHRASE}
    begun = CliRunner().invoke(cli, ["serve", "--data", str(tmp_path / "fresh"), "--port", "0"], env=asked)
    assert begun.exit_code == 0, begun.exception
    short = CliRunner().invoke(cli, ["serve", "--data", str(tmp_path)], env={"FERNFIELD_PHRASE": "short"})
    assert "8 characters at least" in str(short.exception)


def test_a_phrase_that_was_made_is_printed_once_and_kept_as_a_digest(tmp_path: Path) -> None:
    phrase = CliRunner().invoke(cli, ["phrase", "--data", str(tmp_path)]).output.strip()
    looking = make_phrase(tmp_path, "look")
    kept = kept_at(tmp_path)
    assert kept is not None
    assert phrase not in (tmp_path / "access.json").read_text()
    assert oct((tmp_path / "access.json").stat().st_mode & 0o777) == "0o600"
    with TestClient(create_app(Studio(tmp_path)), base_url="http://127.0.0.1", follow_redirects=False) as client:
        assert oct((tmp_path / "key").stat().st_mode & 0o777) == "0o600"
        assert client.get("/api/worlds").status_code == 401
        assert come_in(client, looking).status_code == 303
        assert client.post("/api/worlds", json=WORLD).status_code == 403
        assert come_in(client, phrase).status_code == 303
        assert client.post("/api/worlds", json=WORLD).status_code == 201


def test_every_answer_is_counted_and_told(client: TestClient, caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level(logging.INFO, "fernfield.served")
    made = client.post("/api/worlds", json=WORLD).json()
    client.get(f"/api/tracts/{made['tracts'][0]['id']}/spot?x=1&y=1")
    text = client.get("/metrics").text
    assert 'fernfield_requests_total{method="POST",path="/api/worlds",status="201"} 1.0' in text
    assert 'path="/api/tracts/{tract}/spot"' in text, "by its pattern, not by every tract"
    assert made["id"] not in text
    free = next(line for line in text.splitlines() if line.startswith("fernfield_free_bytes"))
    assert float(free.split()[1]) > 0
    told = [r for r in caplog.records if r.getMessage() == "request"]
    assert (told[0].path, told[0].status) == ("/api/worlds", 201)  # type: ignore[attr-defined]
    assert len({r.number for r in told}) == len(told)  # type: ignore[attr-defined]
