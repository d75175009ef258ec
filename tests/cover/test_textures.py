"""Textures: without a seam, of a mean that keeps the colour; near and far agree; what slows a walker; wrong files."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from fernfield.core.cover.textures import SIDE, TEXTURES, as_texture, brightness, coarser, laid_out, texture
from fernfield.core.grid import Window
from fernfield.core.travel.walker import Intent
from fernfield.work.cover.rows import COVERS
from fernfield.work.cover.ruling import COVER_RULES, RULE_SETS, CoverRules, RuleSet
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.trial.walks import Walk


@pytest.mark.parametrize("name", TEXTURES)
def test_a_texture_goes_on_into_itself_and_keeps_the_colour(name: str) -> None:
    """Across the seam neighbours differ no more than inside; the mean of its brightness is 1; always the same."""
    image = texture(name)
    assert image.shape == (SIDE, SIDE)
    assert (image.min(), image.max()) >= (0, 0)
    assert image.max() <= 1
    assert brightness(image).mean() == pytest.approx(1, abs=0.004)
    for axis in (0, 1):
        steps = np.abs(np.diff(image, axis=axis)).mean(axis=1 - axis)
        seam = np.abs(np.take(image, 0, axis) - np.take(image, -1, axis)).mean()
        assert seam <= steps.max() * 1.05
    assert np.array_equal(image, TEXTURES[name][1]())
    assert image.std() > 0.05


def test_textures_differ_from_each_other() -> None:
    images = [texture(name).ravel() for name in TEXTURES]
    alike = np.corrcoef(images)
    assert np.abs(alike - np.eye(len(images))).max() < 0.3


def test_any_picture_becomes_a_texture_of_middling_brightness() -> None:
    grey = np.tile(np.linspace(0, 1, 90, dtype=np.float32), (50, 1)) ** 3
    made = as_texture(grey)
    assert made.shape == (SIDE, SIDE)
    assert made.mean() == pytest.approx(0.5, abs=0.01)
    assert (as_texture(np.full((9, 9), 0.8, np.float32)) == 0.5).all()


def test_from_far_off_a_texture_is_its_mean() -> None:
    image = texture("pebbles")
    assert coarser(image, 0.01, 4).shape == (SIDE, SIDE)
    far = coarser(image, 50, 4)
    assert far.size == 1
    assert far[0, 0] == pytest.approx(0.5, abs=0.01)
    x = np.arange(400) * 0.25
    one, two = laid_out(image, x, x, 4, 0), laid_out(image, x + 4.0, x, 4, 0)
    # A tile further on it is not the same again: the repetition is broken up.
    assert np.corrcoef(one.ravel(), two.ravel())[0, 1] < 0.9


def test_the_plan_shows_texture_close_up_and_the_same_colour_from_afar(world: OpenWorld) -> None:
    show = Show(contour_m=0, growth=False, shadows=False)
    window = Window(400, 400, 656, 656)
    plain = plan_pixels(world, world.first_land, -2, window, show)[..., :3].astype(float)
    world.edit(patch(COVERS, "grass", texture="slabs", tile_m=6))
    close = plan_pixels(world, world.first_land, -2, window, show)[..., :3].astype(float)
    far = plan_pixels(world, world.first_land, 0, Window(100, 100, 164, 164), show)[..., :3].astype(float)
    assert close[..., 1].std() > plain[..., 1].std() + 6
    assert np.abs(close.mean(axis=(0, 1)) - far.mean(axis=(0, 1))).max() < 5
    # Part by part it is the whole: a pattern of the land, not of the picture.
    part = plan_pixels(world, world.first_land, -2, Window(420, 450, 520, 600), show)[..., :3].astype(float)
    assert np.abs(part - close[20:120, 50:200]).max() <= 2


def test_a_walker_is_slowed_by_what_is_underfoot(world: OpenWorld) -> None:
    def walked() -> float:
        walk = Walk(world, world.first_land, 100, 100)
        return float(walk.advance(Intent(ahead=1, facing=0), 120).y - 100)

    freely = walked()
    world.edit(patch(COVERS, "grass", pace=0.5))
    assert walked() == pytest.approx(freely / 2, rel=0.02)


def png(image: np.ndarray) -> bytes:
    out = io.BytesIO()
    Image.fromarray(image).save(out, "PNG")
    return out.getvalue()


def test_textures_by_the_api(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "T", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    url = f"/api/worlds/{made['id']}"
    answer = client.get(f"{url}/textures/turf.png")
    assert answer.status_code == 200
    grey = np.asarray(Image.open(io.BytesIO(answer.content)))
    assert grey.shape == (SIDE, SIDE)
    assert grey.mean() == pytest.approx(127.5, abs=1)
    assert client.get(f"{url}/textures/velvet.png").status_code == 404
    own = png((np.indices((40, 40)).sum(axis=0) % 2 * 200).astype(np.uint8))
    key = client.post(f"{url}/pictures", files={"file": ("own.png", own)}, data={"name": "Own"}).json()["key"]
    assert client.get(f"{url}/textures/{key}.png").status_code == 200
    assert client.patch(f"{url}/covers/rock", json={"texture": key, "steep_texture": "layers"}).status_code == 200
    # A picture that is not there: the cover keeps its plain colour, and the picture is drawn.
    assert client.patch(f"{url}/covers/rock", json={"texture": "pgone"}).status_code == 200
    tile = f"/api/tracts/{made['tracts'][0]['id']}/plan/-2/0/0.webp"
    assert client.get(tile).status_code == 200


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"not a picture", "PNG"),
        (png(np.zeros((4, 4, 3), np.uint8)), "grey"),
        (png(np.zeros((1, 4), np.uint8)), "2"),
    ],
)
def test_a_wrong_texture_file_is_refused_in_words(client: TestClient, content: bytes, words: str) -> None:
    made: dict[str, Any] = client.post(
        "/api/worlds", json={"name": "T", "width_m": 64, "depth_m": 64, "spacing_m": 1}
    ).json()
    answer = client.post(
        f"/api/worlds/{made['id']}/pictures", files={"file": ("x.png", content)}, data={"name": "X"}
    )  # fmt: skip
    assert answer.status_code == 422
    assert words in answer.text


def test_rules_textures_and_facts_are_in_the_package(world: OpenWorld, tmp_path: Path) -> None:
    world.edit(put(RULE_SETS, "wet", RuleSet.model_validate({"name": "Wet", "rules": [{"cover": "earth"}]})))
    world.edit(patch(COVERS, "grass", texture="pgone", pace=0.7, sound="grass"))
    write_package(world, tmp_path / "out.zip", lambda share, words: None)
    with zipfile.ZipFile(tmp_path / "out.zip") as package:
        rules = json.loads(package.read("cover-rules.json"))
        manifest = json.loads(package.read("manifest.json"))
        relief = np.asarray(Image.open(io.BytesIO(package.read("textures/layers.png"))))
        names = package.namelist()
    assert [rule["cover"] for rule in rules["rules"]] == ["rock"]
    assert rules["sets"]["wet"]["rules"][0]["cover"] == "earth"
    # As it is written it can be put again.
    assert CoverRules.model_validate({"rules": rules["rules"]}) == world.only(COVER_RULES)
    assert np.abs(relief / 255 - texture("layers")).max() < 0.003
    assert "textures/pgone.png" not in names
    grass = manifest["covers"][0]
    assert (grass["key"], grass["pace"], grass["sound"], grass["texture"]) == ("grass", 0.7, "grass", "pgone")
