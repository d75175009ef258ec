"""What is seen in a world: over its ground, what stands there, and through what grows."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi.testclient import TestClient

from fernfield.core.grid import ByteArray

SPEC = {"name": "S", "width_m": 120, "depth_m": 60, "spacing_m": 1, "elevation_m": 5}


def test_walls_hide_crowns_let_through_and_bridges_do_not_hide(client: TestClient) -> None:
    made = client.post("/api/worlds", json=SPEC).json()
    base, tract = f"/api/worlds/{made['id']}", made["tracts"][0]["id"]

    def seen(**more: Any) -> ByteArray:
        answer = client.get(f"/api/lands/{tract}/sight", params={"x": 20, "y": 30, "reach_m": 90, **more})
        assert answer.status_code == 200, answer.text
        shape = tuple(map(int, answer.headers["X-Shape"].split(",")))
        return np.frombuffer(answer.content, np.uint8).reshape(shape)

    flat = seen()
    rows, cols = np.indices(flat.shape)
    # Flat land is seen as far as one looks.
    assert (flat.shape, ((flat == 255) == (np.hypot(rows - 30, cols - 20) <= 90)).all()) == ((61, 121), True)
    assert seen(step=10).shape == (7, 13)
    barn = {"sort": "piece", "kit": "stone_barn", "x": 50, "y": 30}
    assert client.post(f"{base}/things", json=barn).status_code == 201
    bridge = {"sort": "piece", "kit": "block", "x": 20, "y": 45, "over_m": 3}
    assert client.post(f"{base}/things", json=bridge).status_code == 201
    behind = seen()
    assert (behind[30, 70:100] == 0).all()
    assert (behind[30, 21:40] == 255).all()
    assert (behind[5:15, 20] == 255).all(), "what hangs hides nothing"
    assert (seen(over_m=40)[30, 90:100] == 255).all()
    plants = {"plants": [{"mix": "mix", "kind": "tree", "x": 10, "y": 30}]}
    assert client.post(f"/api/tracts/{tract}/plants", json=plants).status_code == 201
    through = seen(over_m=5, target_over_m=5)
    assert 0 < through[30, 0] < 255
    assert seen(over_m=5, target_over_m=5, growth=False)[30, 0] == 255
    for params, words in (({"x": -5}, "eye"), ({"reach_m": 9e9}, "reach"), ({"over_m": -1}, "over")):
        answer = client.get(f"/api/lands/{tract}/sight", params={"x": 20, "y": 30, **params})
        assert (answer.status_code, words in answer.text.lower()) == (422, True), answer.text
