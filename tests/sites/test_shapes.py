"""Shapes of pieces: they fill the box that walkers meet, and every face looks outwards."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from fastapi.testclient import TestClient

from fernfield.core.sites.kit import KIT
from fernfield.core.sites.shapes import EAVES_M, FORMS, piece_shape


@pytest.mark.parametrize("piece", KIT.values(), ids=KIT)
def test_a_piece_fills_its_box_and_faces_outwards(piece: object) -> None:
    corners = piece_shape(piece)  # type: ignore[arg-type]
    at, normal = corners[:, :3], corners[:, 3:6]
    eaves = EAVES_M if piece.form == "house" else 0.0  # type: ignore[attr-defined]
    size = np.array([piece.width + 2 * eaves, piece.depth + 2 * eaves, piece.height])  # type: ignore[attr-defined]
    assert np.ptp(at, axis=0) == pytest.approx(size, rel=1e-4)
    assert at[:, 2].min() == pytest.approx(0, abs=1e-6)
    middle = at.reshape(-1, 3, 3).mean(axis=1) - [0, 0, size[2] / 3]
    assert (np.sum(middle * normal[::3], axis=1) > 0).all()
    assert (corners[:, 6:] >= 0).all()
    assert (corners[:, 6:] <= 1).all()


@pytest.mark.parametrize(("form", "parts"), [("block", 1.0), ("mound", np.sqrt(2) / 6)])
def test_a_form_holds_what_geometry_says(form: str, parts: float) -> None:
    """With its floor put in, by trimesh: a block is all of its box; a pyramid over a regular octagon is a third of base
    times height, and the octagon is √2 / 2 of the square around its corners (textbook geometry)."""
    mesh = FORMS[form](3.0, 5.0, 2.0)
    solid = trimesh.Trimesh(mesh.at, np.arange(len(mesh.at)).reshape(-1, 3)).convex_hull
    assert solid.volume == pytest.approx(30 * parts, rel=1e-4)


def test_shapes_by_the_api(client: TestClient) -> None:
    for path in ("stone_barn", "start?team=3"):
        address, _, query = path.partition("?")
        answer = client.get(f"/api/kit/{address}/shape?{query}")
        rows, nine = map(int, answer.headers["x-shape"].split(","))
        assert (nine, rows % 3, len(answer.content)) == (9, 0, rows * 36)
    assert client.get("/api/kit/start/shape?team=99").status_code == 422
    refused = client.get("/api/kit/tower/shape")
    assert refused.status_code == 404
    assert "stone_barn" in refused.json()["detail"]
