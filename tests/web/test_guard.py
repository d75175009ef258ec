"""The border: other sites, foreign hosts, too much, markup in names, and the policy on every page."""

import re
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from starlette.websockets import WebSocketDisconnect

from fernfield.web.app import create_app
from fernfield.web.kernel.assets import import_map
from fernfield.web.kernel.gate.guard import POLICY
from fernfield.web.kernel.settings import Settings
from fernfield.work.studio import Studio
from tests.conftest import live

WORLD = {"name": "Guarded", "width_m": 64, "depth_m": 64, "spacing_m": 1}
CROSS = (
    {"origin": "https://elsewhere.example"},
    {"origin": "null"},
    {"sec-fetch-site": "cross-site"},
    {"sec-fetch-site": "same-site", "origin": "http://127.0.0.1:8127"},
    {"origin": "http://127.0.0.1:9999"},
)


@pytest.mark.parametrize("headers", CROSS)
def test_a_request_from_another_site_that_would_change_something_gets_403(
    client: TestClient, headers: dict[str, str]
) -> None:
    world = client.post("/api/worlds", json=WORLD).json()["id"]
    for method, path in (
        ("POST", "/api/worlds"),
        ("POST", "/worlds"),
        ("PATCH", f"/api/worlds/{world}"),
        ("DELETE", f"/api/worlds/{world}"),
        ("POST", f"/api/worlds/{world}/handover"),
        ("POST", "/api/worlds/import"),
        ("PUT", f"/api/worlds/{world}/things/a"),
    ):
        answer = client.request(method, path, headers=headers, json=WORLD)
        assert answer.status_code == 403, (method, path)
        assert "another site" in answer.json()["detail"]
    assert len(client.get("/api/worlds", headers=headers).json()) == 1
    with pytest.raises(WebSocketDisconnect) as caught, client.websocket_connect(live(world), headers=headers):
        pass
    assert caught.value.code == 4403


def test_the_page_itself_and_a_script_may_change_things(client: TestClient) -> None:
    for headers in ({}, {"origin": "http://127.0.0.1:8127"}, {"sec-fetch-site": "same-origin"}):
        assert client.post("/api/worlds", json=WORLD, headers=headers).status_code == 201


@pytest.mark.parametrize("host", ["127.0.0.1", "127.0.0.2", "0.0.0.0", "::", "192.0.2.7"])
def test_a_foreign_host_name_is_refused_wherever_the_server_listens(tmp_path: Path, host: str) -> None:
    """A page of another site can bring its own name here (DNS rebinding), but neither a number nor a name of ours."""
    settings = Settings(host=host, names="table.example", phrase="a long word")
    with TestClient(create_app(Studio(tmp_path), settings), base_url="http://rebound.example") as client:
        for path in ("/", "/healthz", "/sign-in"):
            assert client.get(path).status_code == 403
        for name in ("table.example", "localhost:8127", "127.0.0.1"):
            assert client.get("/healthz", headers={"host": name}).status_code == 200
        elsewhere = host not in ("127.0.0.1", "127.0.0.2")
        for name in ("192.0.2.7:8127", "[2001:db8::7]"):
            assert client.get("/healthz", headers={"host": name}).status_code == (200 if elsewhere else 403)


def test_every_page_has_the_policy_and_no_inline_script_or_style(client: TestClient) -> None:
    world = client.post("/api/worlds", json=WORLD).json()["id"]
    stages = ("ground", "cover", "growth", "water", "light", "sites", "trial", "handover")
    pages = ["/", f"/worlds/{world}", "/worlds/none", *(f"/worlds/{world}/bench/{s}" for s in stages)]
    for path in pages:
        answer = client.get(path, headers={"accept": "text/html"})
        assert answer.headers["content-security-policy"] == POLICY
        assert "unsafe" not in POLICY
        inline = re.findall(r"<script(?![^>]*\bsrc=)[^>]*>(.*?)</script>", answer.text, re.DOTALL)
        # The import map alone, which the policy knows by its hash.
        assert inline in ([import_map()], []), path
        assert not re.search(r"\s(style|on[a-z]+)=", answer.text), path
        assert not re.search(r"(src|href)=\"(https?:)?//", answer.text), path
    assert client.get("/static/js/seen/world.js").headers["content-security-policy"] == POLICY


def test_names_with_markup_are_shown_as_text(client: TestClient) -> None:
    nasty = "<img src=x onerror=alert(1)>'\"&"
    world = client.post("/api/worlds", json={**WORLD, "name": nasty}).json()["id"]
    client.post(f"/api/worlds/{world}/things", json={"sort": "start", "name": nasty, "x": 1, "y": 1})
    client.patch(f"/api/worlds/{world}", json={"name": nasty + "!"})
    for path in ("/", f"/worlds/{world}", f"/worlds/{world}/logbook"):
        text = client.get(path).text
        assert "<img src=x" not in text
        assert "&lt;img src=x" in text or "\\u003cimg" in text


def test_more_than_may_be_sent_is_refused_before_it_is_read(client: TestClient, tmp_path: Path) -> None:
    answer = client.post("/api/worlds", content=b" " * (17 << 20), headers={"content-type": "application/json"})
    assert answer.status_code == 413
    assert "at most 16 MiB" in answer.json()["detail"]

    def endless() -> object:
        for _ in range(40):
            yield b"x" * (1 << 20)

    # Without a length that was told beforehand, the bytes are counted as they come.
    assert client.post("/api/worlds", content=endless()).status_code == 413  # type: ignore[arg-type]
    small = Settings(upload_mib=1)
    with TestClient(create_app(Studio(tmp_path / "s"), small), base_url="http://localhost") as limited:
        big = {"file": ("x", b"y" * (2 << 20))}
        answer = limited.post("/api/worlds/import", files=big, data={"name": "x"})
        assert answer.status_code == 413
        assert "at most 1 MiB" in answer.json()["detail"]


def test_people_get_a_page_and_scripts_get_json_when_something_is_missing(client: TestClient) -> None:
    page = client.get("/worlds/none", headers={"accept": "text/html"})
    assert page.status_code == 404
    assert "there is no world" in page.text
    assert "<html" in page.text
    assert client.get("/api/worlds/none", headers={"accept": "text/html"}).json()["status"] == 404


def test_an_unexpected_failure_is_told_without_its_insides(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(_self: object) -> None:
        raise RuntimeError("secret path /x/y")

    monkeypatch.setattr("fernfield.store.worlds.WorldStore.list_worlds", broken)
    quiet = TestClient(client.app, base_url="http://127.0.0.1:8127", raise_server_exceptions=False)
    answer = quiet.get("/api/worlds")
    assert answer.status_code == 500
    assert "secret" not in answer.text
