"""Forms that are made by code: as large as they are said to be, of few triangles, the same every time."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from fernfield.core.growth.shapes import BARK, CARD, DETAILS, FORMS, LEAF, NEAR, VARIANTS, coloured, shown
from fernfield.work.growth.rows import Kind
from fernfield.work.growth.shaping import formed

MEASURES = {"trees": (8.0, 2.5, 0.25), "low": (1.2, 0.9, 0.05), "stones": (1.1, 0.9, 0.7)}


def measures_of(name: str) -> tuple[float, float, float]:
    form = FORMS[name]
    return MEASURES["stones" if form.stone else "trees" if form.trunk else "low"]


@pytest.mark.parametrize("name", sorted(FORMS))
@pytest.mark.parametrize("detail", DETAILS)
def test_a_form_is_as_large_as_it_is_said_to_be(name: str, detail: int) -> None:
    tall, crown, trunk = measures_of(name)
    mesh = FORMS[name].build(tall, crown, trunk, detail)
    low, high = mesh.at.min(axis=0), mesh.at.max(axis=0)
    # A log lies: its measures are its length and its thickness.
    top = 1.35 * tall if name == "log" else tall
    assert 0.7 * tall <= high[2] <= 1.06 * top
    assert -0.35 * tall - 0.1 <= low[2] <= 0.25 * tall
    assert np.abs(mesh.at[:, :2]).max() <= 1.12 * crown
    if name != "snag" or detail != CARD:
        assert np.abs(mesh.at[:, :2]).max() >= 0.6 * crown
    assert np.isfinite(mesh.at).all()
    assert np.allclose(np.linalg.norm(mesh.normal, axis=1), 1, atol=1e-3)


@pytest.mark.parametrize("name", sorted(FORMS))
def test_what_is_further_off_has_fewer_triangles(name: str) -> None:
    tall, crown, trunk = measures_of(name)
    counts = [FORMS[name].build(tall, crown, trunk, detail).triangles for detail in DETAILS]
    assert counts[0] <= 700
    assert counts[1] <= 120
    assert counts[2] <= 20
    assert counts[0] > counts[1] >= counts[2]
    # The same every time, also between runs: nothing in it is by chance.
    again = FORMS[name].build(tall, crown, trunk, NEAR)
    assert again.at.tobytes() == FORMS[name].build(tall, crown, trunk, NEAR).at.tobytes()


@pytest.mark.parametrize("name", ["broadleaf", "boulder", "bush"])
def test_a_reader_of_meshes_finds_solid_parts(name: str) -> None:
    """With trimesh: no triangle without an area, and every ball closed with its faces outward."""
    mesh = FORMS[name].build(*measures_of(name), NEAR)
    read = trimesh.Trimesh(mesh.at, np.arange(len(mesh.at)).reshape(-1, 3), process=True)
    assert (read.area_faces > 1e-9).all()
    labels = trimesh.graph.connected_component_labels(read.face_adjacency, node_count=len(read.faces))
    parts = [read.submesh([np.flatnonzero(labels == one)], append=True) for one in np.unique(labels)]
    balls = [part for part in parts if part.is_watertight]
    assert balls
    assert all(ball.volume > 0 for ball in balls)


def kind(**said: object) -> Kind:
    return Kind.model_validate(
        {"name": "K", "form": "broadleaf", "tall_m": 8, "crown_m": 2.5, "trunk_m": 0.25, "colour": "#3c6a42", **said}
    )


@pytest.mark.parametrize("detail", DETAILS)
def test_variants_hold_at_every_distance(detail: int) -> None:
    plain = formed(kind(), detail)
    for variant in VARIANTS[1:]:
        other = formed(kind(variant=variant), detail)
        if variant in ("bare", "dead"):
            assert len(other) < len(plain)
        else:
            assert np.abs(other[:, 6:9] - plain[:, 6:9]).mean() > 0.05
    snowed, darker = formed(kind(variant="snowed"), detail), formed(kind(variant="darker"), detail)
    assert snowed[:, 6:9].mean() > plain[:, 6:9].mean() > darker[:, 6:9].mean()
    # A stone has no leaves to lose.
    stone = kind(form="boulder", tall_m=1, crown_m=1)
    assert len(formed(stone, detail)) == len(formed(stone.model_copy(update={"variant": "bare"}), detail))


def test_leaves_and_bark_have_their_own_colours_and_only_leaves_dry() -> None:
    mesh = shown(FORMS["broadleaf"].build(8, 2.5, 0.25, NEAR), "plain")
    colour, tinted = coloured(mesh, (0.0, 1.0, 0.0), (1.0, 0.0, 0.0), "plain")
    assert (colour[mesh.of == LEAF][:, 1] > 0.5).all()
    assert (colour[mesh.of == BARK][:, 0] > 0.5).all()
    assert set(tinted[mesh.of == LEAF]) == {1.0}
    assert set(tinted[mesh.of == BARK]) == {0.0}


def test_what_bends_bends_at_its_top_and_stones_do_not() -> None:
    sways = formed(kind(bends=0.8), NEAR)
    high = sways[:, 2] > 6
    assert sways[high, 10].min() > sways[sways[:, 2] < 1, 10].max()
    assert formed(kind(form="slab", tall_m=1, crown_m=1, bends=0.8), NEAR)[:, 10].max() == 0
    assert len(formed(kind(), CARD)) == 60
