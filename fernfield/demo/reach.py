"""Sallow Reach: the demo world, and the commands that make it, the same as a user's; what they make is kept beside.

A tidal fen and moor, made up for this: a winding creek between reed beds, a low limestone
scar, a drowned clay pit, a moor with peat cuttings, a shingle bar against the sea. Two
teams of wardens compete to reopen the sluices before the spring tide.
"""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

from fernfield.core.brush.tool import STRENGTHS
from fernfield.core.errors import Conflict
from fernfield.demo.furnishing import furnish
from fernfield.demo.kept import kept_world
from fernfield.demo.playing import set_out
from fernfield.store.rows import Tile, TileAt
from fernfield.work.cover.areas import MendFlecks, mend_flecks
from fernfield.work.cover.rows import Cover
from fernfield.work.cover.ruling import CoverRules
from fernfield.work.ground.commands import PutSheet
from fernfield.work.ground.rows import LEVELS, Level, Sheet
from fernfield.work.ground.sheet_edits import put_sheet
from fernfield.work.growth.rows import Kind, Mix
from fernfield.work.growth.swards import Sward
from fernfield.work.house import HOUSE
from fernfield.work.kernel.commands import PathPoint, put
from fernfield.work.kernel.rows import Row
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LAMPS as LAMP_ROWS
from fernfield.work.light.rows import MISTS as MIST_ROWS
from fernfield.work.light.rows import Lamp, Light, Mist, Mood
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from fernfield.work.water.hollows import PutPool, put_pool
from fernfield.work.water.rows import Pool, Water
from fernfield.work.water.streams import PutStream, put_stream
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.rows import About, name_of
from fernfield.work.worlds.tracts import TractSpec

NAME = "Sallow Reach"
WORDS = "A tidal fen and moor, where wardens compete to reopen the sluices before the spring tide."
SIZE_M = 1024.0
SEED = 20

Points = Sequence[tuple[float, float]]

CREEK: Points = (
    (300, 760), (322, 690), (280, 632), (310, 566), (392, 530), (430, 470), (398, 405), (428, 340),
    (508, 310), (556, 258), (520, 196), (540, 130), (590, 84), (600, 20), (604, -40),
)  # fmt: skip
SCAR: Points = (
    (460, 900), (486, 836), (540, 806), (572, 778), (630, 760), (652, 702), (716, 690), (764, 640), (800, 604),
    (880, 598), (930, 560), (1060, 530),
)  # fmt: skip
BAR: Points = ((-20, 118), (90, 100), (210, 112), (330, 92), (450, 104), (520, 96))
BAR_EAST: Points = ((664, 88), (760, 106), (860, 90), (960, 104), (1050, 96))
PATH: Points = (
    (120, 560),
    (200, 500),
    (262, 470),
    (330, 440),
    (420, 436),
    (520, 420),
    (612, 398),
    (700, 372),
    (800, 390),
    (930, 420),
)
HOLM: Points = ((470, -150), (560, -178), (650, -172), (740, -150), (812, -128))
"""A shingle holm across the creek's mouth, in a tract of its own."""
HOLM_DEPTH_M = 320.0
CARR: Points = ((250, 600), (330, 500), (350, 400), (470, 250), (480, 170))


RULES: list[dict[str, Any]] = [
    {"cover": "limestone", "name": "Scar", "ragged": 0.5, "grain_m": 12,
     "conditions": [{"what": "slope", "from": 35, "soft": 9}]},
    {"cover": "shingle", "name": "Under the banks", "amount": 0.8, "ragged": 0.6, "grain_m": 6,
     "conditions": [{"what": "slope", "from": 22, "to": 36, "soft": 8}, {"what": "above_water", "to": 4, "soft": 3}]},
    {"cover": "silt", "name": "Between the tides", "amount": 0.9, "ragged": 0.5, "grain_m": 9,
     "conditions": [{"what": "tide", "from": -60, "to": 110, "soft": 60}, {"what": "slope", "to": 24, "soft": 10}]},
    {"cover": "fen-peat", "name": "Wet ground", "amount": 0.55, "ragged": 0.5, "grain_m": 18,
     "conditions": [
         {"what": "wetness", "from": 9.5, "soft": 2}, {"what": "above_water", "from": 0.5, "to": 14, "soft": 3},
     ]},
    {"cover": "ling", "name": "Dry tops", "amount": 0.5, "ragged": 0.8, "grain_m": 30,
     "conditions": [{"what": "elevation", "from": 24, "soft": 8}, {"what": "curvature", "from": 0.2, "soft": 0.8}]},
]  # fmt: skip
"""From top to bottom; what the wardens have painted lies over them."""


KINDS: dict[str, dict[str, Any]] = {
    "alder": {"name": "Alder", "form": "broadleaf", "tall_m": 7.5, "crown_m": 2.3, "trunk_m": 0.25, "blocks": "trunk",
              "bends": 0.4, "colour": "#3c6a42", "dry_colour": "#7d8a4e"},
    "willow": {"name": "Willow", "form": "willow", "tall_m": 8.5, "crown_m": 3.4, "trunk_m": 0.4, "blocks": "trunk",
               "bends": 0.7, "colour": "#6f8f57", "dry_colour": "#a3a35e", "bark_colour": "#6b6250", "in_water": True},
    "birch": {"name": "Birch", "form": "slender", "tall_m": 9.0, "crown_m": 1.9, "trunk_m": 0.16, "blocks": "trunk",
              "bends": 0.6, "colour": "#6d8f4c", "dry_colour": "#c2a548", "bark_colour": "#d8d4c8"},
    "gorse": {"name": "Gorse", "form": "bush", "tall_m": 1.5, "crown_m": 1.0, "bends": 0.2, "colour": "#4f6b35",
              "dry_colour": "#b9a33c", "card_m": 120, "gone_m": 900},
    "bracken": {"name": "Bracken", "form": "fern", "tall_m": 0.9, "crown_m": 0.8, "bends": 0.5, "colour": "#5f8a3f",
                "dry_colour": "#9a6d3a", "simpler_m": 35, "card_m": 80, "gone_m": 400},
    "reed": {"name": "Reed", "form": "reeds", "tall_m": 1.9, "crown_m": 0.9, "bends": 0.9, "colour": "#8f9a57",
             "dry_colour": "#c8b878", "simpler_m": 35, "card_m": 90, "gone_m": 600, "in_water": True},
    "erratic": {"name": "Erratic", "form": "boulder", "tall_m": 1.1, "crown_m": 0.9, "trunk_m": 0.75, "leans": 1.0,
                "blocks": "trunk", "colour": "#8f8b80", "dry_colour": "#a39a86"},
    "drift-log": {"name": "Drift log", "form": "log", "tall_m": 0.5, "crown_m": 2.2, "leans": 1.0, "blocks": "nothing",
                  "colour": "#8d8272", "bark_colour": "#948a7b", "dry_colour": "#b3a995", "gone_m": 900},
}  # fmt: skip

GENTLE: list[dict[str, Any]] = [{"what": "slope", "to": 42, "soft": 8}]
DRY = [{"what": "above_water", "from": 0.2, "soft": 0.4}, *GENTLE]
"""What grows on dry land asks for: none stands in the creek, or out of the scar."""

SWARDS: dict[str, dict[str, Any]] = {
    "grass": {
        "name": "Moor grass", "per_m2": 9, "tall_min_m": 0.15, "tall_max_m": 0.45, "colour": "#86904e",
        "dry_colour": "#b9a869", "patchy": 0.5, "patch_m": 14, "seed": 3, "covers": ["moor-grass", "ling"],
        "conditions": [{"what": "slope", "to": 38, "soft": 10}],
    },
    "sedge": {
        "name": "Sedge", "per_m2": 7, "tall_min_m": 0.3, "tall_max_m": 0.8, "colour": "#6f8348",
        "dry_colour": "#a79a58",        "patchy": 0.6, "patch_m": 9, "seed": 7, "covers": ["sedge"],
    },
}  # fmt: skip
MIXES: dict[str, dict[str, Any]] = {
    "carr": {
        "name": "Carr", "seed": 11, "density_per_ha": 420, "between_m": 1.2, "open": 0.12, "open_m": 70, "kinds": [
            {"kind": "alder", "weight": 9, "size_min": 0.7, "size_max": 1.4, "spread": "middle", "width_min": 0.85,
             "width_max": 1.2, "apart_m": 2.6, "clump": 0.5, "clump_m": 45, "tilt_deg": 2, "conditions": DRY},
            {"kind": "willow", "weight": 3, "size_min": 0.7, "size_max": 1.2, "width_min": 0.9, "width_max": 1.2,
             "apart_m": 5, "conditions": [{"what": "water_distance", "to": 28, "soft": 12}, *GENTLE]},
            {"kind": "birch", "weight": 2, "size_min": 0.7, "size_max": 1.25, "apart_m": 2, "tilt_deg": 3, "clump": 0.8,
             "clump_m": 25, "conditions": [{"what": "above_water", "from": 1.5, "soft": 1}, *GENTLE]},
            {"kind": "erratic", "weight": 0.6, "size_min": 0.7, "size_max": 2.6, "spread": "small", "apart_m": 3,
             "sink_max_m": 0.25, "conditions": DRY},
            {"kind": "bracken", "weight": 6, "size_min": 0.6, "size_max": 1.3, "apart_m": 0.8, "overlaps": True,
             "tint": 0.6, "clump": 0.9, "clump_m": 18,
             "conditions": [{"what": "above_water", "from": 1, "soft": 1}, *GENTLE]},
        ],
    },
    "heath": {
        "name": "Heath", "seed": 23, "density_per_ha": 260, "between_m": 1.0, "kinds": [
            {"kind": "gorse", "weight": 10, "size_min": 0.5, "size_max": 1.5, "spread": "small", "apart_m": 1.1,
             "clump": 1.0, "clump_m": 32, "tint": 0.5, "conditions": DRY},
            {"kind": "birch", "weight": 0.7, "size_min": 0.5, "size_max": 0.9, "apart_m": 3, "tilt_deg": 5,
             "clump": 1.0, "clump_m": 60, "conditions": DRY},
            {"kind": "erratic", "weight": 0.6, "size_min": 0.6, "size_max": 2.2, "spread": "small", "apart_m": 4,
             "sink_max_m": 0.3},
        ],
    },
    "reed-bed": {
        "name": "Reed bed", "seed": 31, "density_per_ha": 1500, "kinds": [
            {"kind": "reed", "weight": 1, "size_min": 0.6, "size_max": 1.25, "spread": "middle", "apart_m": 1.1,
             "tint": 0.8, "clump": 0.5, "clump_m": 20,
             "conditions": [{"what": "above_water", "from": -0.7, "to": 1.3, "soft": 0.6}]},
        ],
    },
    "strand": {
        "name": "Strand", "seed": 41, "density_per_ha": 60, "between_m": 2.0, "kinds": [
            {"kind": "drift-log", "weight": 3, "size_min": 0.5, "size_max": 1.5, "apart_m": 3, "sink_max_m": 0.15,
             "turn_deg": 84, "turn_around_deg": 35, "clump": 0.6, "clump_m": 30,
             "conditions": [{"what": "above_water", "from": 0.3, "to": 3, "soft": 0.6}]},
            {"kind": "erratic", "weight": 1, "size_min": 0.4, "size_max": 1.2, "spread": "small", "apart_m": 2,
             "sink_max_m": 0.2, "conditions": DRY},
        ],
    },
}  # fmt: skip


def rows() -> list[tuple[str, str, Row]]:
    """Water, light, covers, kinds and mixes of Sallow Reach."""

    def cover(name: str, colour: str, position: int, texture: str, tile_m: float, **more: Any) -> Cover:
        return Cover(name=name, colour=colour, position=position, texture=texture, tile_m=tile_m, **more)

    return [
        ("about", "world", About(name=NAME, description=WORDS)),
        ("water", "sea", Water(sea_level_m=0.0, tide_low_m=-0.9, tide_high_m=1.4)),
        ("pools", "clay-pit", Pool(name="Clay pit", x=801.0, y=296.0, level_m=0.0)),
        ("light", "sun", Light(sun_bearing_deg=302.0, sun_height_deg=24.0)),
        *(("moods", key, Mood.model_validate(said)) for key, said in MOODS.items()),
        ("covers", "moor-grass", cover("Moor grass", "#a8a673", 0, "turf", 3)),
        ("covers", "sedge", cover("Sedge", "#7f9350", 1, "reeds", 4, pace=0.85, sound="wet grass")),
        ("covers", "fen-peat", cover("Fen peat", "#6e5a46", 2, "peat", 6, pace=0.7, sound="mud")),
        ("covers", "ling", cover("Ling", "#886a86", 3, "heath", 5, pace=0.9, sound="brush")),
        ("covers", "silt", cover("Silt", "#9a8a76", 4, "ripples", 7, pace=0.75, sound="mud")),
        ("covers", "shingle", cover("Shingle", "#d9d0ba", 5, "pebbles", 4, pace=0.85, sound="gravel")),
        ("covers", "worn-path", cover("Worn path", "#dfbb84", 6, "trodden", 4, sound="earth")),
        ("covers", "limestone", cover("Limestone", "#b2bac4", 7, "slabs", 9, steep_texture="layers", sound="stone")),
        ("cover-rules", "world", CoverRules.model_validate({"rules": RULES})),
        *(("kinds", key, Kind(**said)) for key, said in KINDS.items()),
        *(("swards", key, Sward.model_validate(said)) for key, said in SWARDS.items()),
        *(("mixes", key, Mix.model_validate(said)) for key, said in MIXES.items()),
    ]


def timed(points: Points, seconds: float) -> list[PathPoint]:
    """A path along points at an even pace, `seconds` long in all."""
    away = [0.0]
    for (x0, y0), (x1, y1) in itertools.pairwise(points):
        away.append(away[-1] + math.hypot(x1 - x0, y1 - y0))
    whole = away[-1] or 1.0
    return [(x, y, seconds * a / whole, 1.0) for (x, y), a in zip(points, away, strict=True)]


def wander(box: tuple[float, float, float, float], steps: int, rng: random.Random) -> list[tuple[float, float]]:
    """A hand that wanders about in the box x0, y0, x1, y1, turning a little at each step. [m]"""
    x0, y0, x1, y1 = box
    x, y, turn = rng.uniform(x0, x1), rng.uniform(y0, y1), rng.uniform(0, 2 * math.pi)
    points = [(x, y)]
    for _ in range(steps):
        turn += rng.uniform(-0.9, 0.9)
        x, y = x + 30 * math.cos(turn), y + 30 * math.sin(turn)
        if not (x0 <= x <= x1 and y0 <= y <= y1):
            turn += math.pi * 0.7
            x, y = min(max(x, x0), x1), min(max(y, y0), y1)
        points.append((round(x, 1), round(y, 1)))
    return points


HASTE = 6.0
"""How much quicker a stroke is drawn than is written here, with its strength as much higher."""


class _Hand:
    """A user's hand on the world: each call is one stroke, in the world's metres, on the first tract and its land."""

    def __init__(self, world: OpenWorld) -> None:
        self._world = world
        self._tract = world.first_tract.row.id

    def __call__(
        self,
        tool: str,
        points: Points,
        *,
        radius: float,
        softness: float = 1.0,
        strength: float,
        seconds: float,
        target: float | None = None,
        cover: str | None = None,
        mix: str | None = None,
        sheet: str | None = None,
        own: dict[str, Any] | None = None,
    ) -> None:
        # As quick as the tool may be set to: the same work in fewer dabs, no further apart than the brush asks.
        haste = min(HASTE, STRENGTHS[HOUSE.tools[tool].unit][1] / strength)
        self._world.stroke(
            self._tract,
            Stroke(
                tool=tool,
                radius_m=radius,
                softness=softness,
                strength=strength * haste,
                path=timed(points, seconds / haste),
                target_m=target,
                cover=cover,
                mix=mix,
                sheet=sheet,
                **(own or {}),
            ),
        )


def _shape(hand: _Hand, rng: random.Random) -> None:
    # The moor in the north-west, in broad passes, and the sea bed along the south.
    hand("raise", [(60, 980), (230, 900), (90, 800), (260, 1000)], radius=330, strength=5, seconds=6)
    hand("raise", [(60, 940), (180, 860), (120, 980)], radius=150, strength=6, seconds=4)
    hand("raise", [(500, 980), (760, 940), (980, 900)], radius=210, strength=7, seconds=6)
    hand("lower", [(-20, -30), (1050, -30)], radius=190, softness=0.9, strength=14, seconds=7)
    hand("lower", [(1040, 0), (-20, 0)], radius=110, strength=6, seconds=5)
    # Rolling ground: wandering strokes up and down, finer each time.
    for box, radius, strength in (
        ((0, 620, 460, 1024), 70, 2.4),
        ((450, 650, 1024, 1024), 60, 2.4),
        ((0, 180, 1024, 640), 80, 1.1),
        ((0, 600, 1024, 1024), 34, 1.7),
        ((0, 150, 1024, 620), 38, 0.7),
        ((0, 560, 1024, 1024), 17, 1.2),
        ((0, 140, 1024, 600), 18, 0.6),
    ):
        for tool in ("raise", "lower"):
            hand(tool, wander(box, 110, rng), radius=radius, strength=strength, seconds=60)
    # The scar: a step with a hard edge, and screes smoothed under it.
    hand("raise", SCAR, radius=58, softness=0.22, strength=14, seconds=18)
    hand("raise", [(x + 40, y + 44) for x, y in SCAR], radius=95, softness=0.6, strength=8, seconds=12)
    hand("smooth", [(x - 62, y - 66) for x, y in SCAR], radius=30, softness=0.9, strength=160, seconds=9)
    hand("smooth", [(x + 44, y + 52) for x, y in SCAR], radius=52, softness=0.8, strength=300, seconds=14)
    # The creek and its banks, the pit, the bar.
    hand("lower", CREEK, radius=74, softness=1, strength=2.2, seconds=30)
    hand("lower", CREEK, radius=27, softness=0.75, strength=9, seconds=34)
    hand(
        "flatten",
        [(752, 306), (800, 268), (838, 296), (806, 338), (764, 330)],
        radius=34,
        softness=0.5,
        strength=16,
        seconds=7,
        target=-4.5,
    )
    hand("raise", BAR, radius=30, softness=0.9, strength=9, seconds=9)
    hand("raise", BAR_EAST, radius=30, softness=0.9, strength=9, seconds=7)
    # Flat places to play on, and peat cuttings in the moor.
    hand("flatten", [(176, 520), (200, 504), (226, 508)], radius=34, softness=0.9, strength=12, seconds=4, target=7.0)
    hand("flatten", [(628, 400), (664, 380), (680, 396)], radius=30, softness=0.9, strength=12, seconds=4, target=6.5)
    hand("flatten", [(866, 404), (892, 398), (908, 416)], radius=30, softness=0.9, strength=12, seconds=4, target=8.0)
    hand(
        "smooth",
        [(176, 520), (226, 508), (640, 394), (680, 392), (880, 406)],
        radius=74,
        softness=0.6,
        strength=400,
        seconds=12,
    )
    for k in range(4):
        y = 812 + 34 * k
        hand("lower", [(96, y), (196, y + 8)], radius=9, softness=0.3, strength=3.2, seconds=6)
    hand("smooth", CREEK, radius=46, softness=0.9, strength=120, seconds=16)


def _holm(studio: Studio, world: OpenWorld, hand: _Hand, rng: random.Random) -> None:
    """The second tract: sea bed to the south, joined, with a holm of shingle that the creek runs around."""
    spec = TractSpec(
        name="Shingle holm", x=0, y=-HOLM_DEPTH_M, width_m=SIZE_M, depth_m=HOLM_DEPTH_M, spacing_m=1.0, elevation_m=-9.0
    )
    south, _ = studio.add_tract(world.id, spec)
    join(world, JoinTracts(first=south, second=world.first_tract.row.id, blend_m=90))
    hand("raise", HOLM, radius=88, strength=9.5, seconds=9)
    hand("raise", HOLM[1:-1], radius=40, softness=0.9, strength=3, seconds=6)
    for tool in ("raise", "lower"):
        hand(tool, wander((430, -230, 850, 60), 90, rng), radius=24, strength=1.6, seconds=40)
    # The creek's last bend runs on across the join, west of the holm.
    mouth = [(592, 60), (560, 10), (500, -40), (420, -90), (330, -190), (300, -330)]
    hand("lower", mouth, radius=40, softness=0.9, strength=4, seconds=9)
    hand("smooth", HOLM, radius=70, softness=0.9, strength=160, seconds=9)
    hand("paint", [(-20, -60), (1050, -60)], radius=120, softness=0.4, strength=300, seconds=9, cover="silt")
    hand("paint", [(-20, -240), (1050, -240)], radius=120, softness=0.4, strength=300, seconds=9, cover="silt")
    hand("paint", HOLM, radius=62, softness=0.5, strength=320, seconds=9, cover="shingle")
    hand(
        "paint", wander((560, -190, 760, -130), 20, rng), radius=14, softness=1, strength=160, seconds=9, cover="sedge"
    )


NAMED_PLOTS: dict[str, tuple[str, Points]] = {
    "north-fen": ("North fen", ((430, 560), (560, 540), (600, 640), (520, 700), (440, 660))),
    "moor": ("Moor", ((40, 740), (260, 720), (300, 860), (240, 990), (60, 980))),
}
NAMED_LEVELS = {"spring-tide": ("Spring tide", 1.6), "west-yard": ("West yard", 7.0)}


def _detail(world: OpenWorld, hand: _Hand) -> None:
    """A grain on the scar and the moor in a sheet of its own, and what the wardens have written down."""
    put_sheet(world, PutSheet(key="grain", sheet=Sheet(name="Grain")))
    scar = {"feature_m": 18.0, "height_m": 2.2, "octaves": 4, "persistence": 0.55, "seed": 4}
    hand("roughen", SCAR, radius=60, strength=6, seconds=16, sheet="grain", own=scar)
    moor = {"feature_m": 26.0, "height_m": 1.2, "octaves": 4, "seed": 9}
    hand("roughen", [(60, 960), (200, 880), (110, 780)], radius=130, strength=6, seconds=9, sheet="grain", own=moor)
    for key, (name, points) in NAMED_PLOTS.items():
        corners = tuple((float(x), float(y)) for x, y in points)
        world.edit(put(PLOTS, key, Plot(name=name, points=corners)))
    for key, (name, elevation) in NAMED_LEVELS.items():
        world.edit(put(LEVELS, key, Level(name=name, elevation_m=elevation)))


def _dress(hand: _Hand, rng: random.Random) -> None:
    hand("paint", wander((0, 160, 1024, 560), 170, rng), radius=44, softness=1, strength=80, seconds=60, cover="sedge")
    hand("paint", wander((0, 160, 1024, 600), 170, rng), radius=17, softness=1, strength=110, seconds=60, cover="sedge")
    hand("paint", CREEK, radius=78, softness=0.7, strength=260, seconds=22, cover="sedge")
    hand(
        "paint", wander((180, 280, 620, 640), 90, rng), radius=20, softness=1, strength=70, seconds=40, cover="fen-peat"
    )
    hand("paint", wander((0, 700, 440, 1024), 120, rng), radius=36, softness=1, strength=75, seconds=50, cover="ling")
    hand("paint", wander((0, 660, 480, 1024), 140, rng), radius=15, softness=1, strength=120, seconds=50, cover="ling")
    hand(
        "paint", wander((560, 800, 1024, 1024), 60, rng), radius=24, softness=1, strength=110, seconds=30, cover="ling"
    )
    for k in range(4):
        y = 812 + 34 * k
        hand("paint", [(90, y), (202, y + 8)], radius=13, softness=0.5, strength=400, seconds=4, cover="fen-peat")
    hand("paint", CREEK, radius=30, softness=0.5, strength=300, seconds=26, cover="silt")
    hand("paint", [(-20, 40), (1050, 40)], radius=70, softness=0.5, strength=300, seconds=9, cover="silt")
    hand("paint", [(766, 304), (820, 300)], radius=58, softness=0.4, strength=200, seconds=3, cover="silt")
    hand("paint", BAR, radius=36, softness=0.5, strength=320, seconds=9, cover="shingle")
    hand("paint", BAR_EAST, radius=36, softness=0.5, strength=320, seconds=8, cover="shingle")
    hand("paint", PATH, radius=5, softness=0.5, strength=600, seconds=26, cover="worn-path")
    hand(
        "paint",
        [(300, 455), (250, 560), (190, 660), (140, 790)],
        radius=4,
        softness=0.5,
        strength=600,
        seconds=14,
        cover="worn-path",
    )
    hand("sow", CARR, radius=62, softness=0.7, strength=90, seconds=14, mix="carr")
    hand("sow", wander((20, 560, 420, 780), 46, rng), radius=46, softness=0.9, strength=70, seconds=24, mix="carr")
    hand(
        "sow",
        [(680, 560), (760, 540), (860, 500), (980, 470)],
        radius=46,
        softness=0.8,
        strength=80,
        seconds=9,
        mix="heath",
    )
    hand(
        "sow",
        [(560, 930), (700, 900), (840, 860), (980, 830)],
        radius=64,
        softness=0.9,
        strength=80,
        seconds=10,
        mix="heath",
    )
    hand("sow", CREEK, radius=34, softness=0.5, strength=120, seconds=20, mix="reed-bed")
    hand("sow", BAR, radius=30, softness=0.6, strength=160, seconds=9, mix="strand")
    hand("sow", BAR_EAST, radius=30, softness=0.6, strength=160, seconds=8, mix="strand")
    # Ground that stays free on purpose: the creek's bed of trees, the yards and the path of everything.
    hand("thin", CREEK, radius=24, softness=0.3, strength=500, seconds=24, mix="carr")
    hand("glade", PATH, radius=9, softness=0.3, strength=500, seconds=20)
    hand("glade", [(184, 500), (206, 512)], radius=22, softness=0.3, strength=500, seconds=2)
    hand("glade", [(880, 404), (894, 412)], radius=22, softness=0.3, strength=500, seconds=2)


STREAMS: dict[str, tuple[str, tuple[float, float], float]] = {
    "sallow-creek": ("Sallow creek", (330.0, 900.0), 3.0),
    "scar-beck": ("Scar beck", (560.0, 640.0), 2.0),
}
"""Name, spring and width there: from the moor to the tide, and from under the scar into it. [m]"""

MOODS: dict[str, dict[str, Any]] = {
    "dawn": {
        "name": "Dawn over the fen", "sun_bearing_deg": 96, "sun_height_deg": 5, "turbidity": 2.2, "haze_m": 1500,
        "haze_top_m": 12, "wind_m_s": 1, "beyond": "sea",
    },
    "noon": {
        "name": "Flat noon", "sun_bearing_deg": 186, "sun_height_deg": 58, "turbidity": 4, "haze_m": 25_000,
        "beyond": "sea",
    },
    "evening": {
        "name": "Low evening", "sun_bearing_deg": 282, "sun_height_deg": 9, "turbidity": 2.8, "haze_m": 12_000,
        "wind_m_s": 4, "beyond": "sea",
    },
    "night": {
        "name": "Night, half a moon", "sun_bearing_deg": 330, "sun_height_deg": -22, "moon_bearing_deg": 140,
        "moon_height_deg": 34, "moon_lit": 0.5, "haze_m": 8000, "beyond": "sea",
    },
}  # fmt: skip
LAMPS = {
    "yard": ("Yard lamp", 203.0, 508.0, 3.5, 1400.0),
    "barn": ("Barn door", 182.0, 518.0, 2.6, 700.0),
    "pump": ("Pump house", 646.0, 396.0, 3.0, 1000.0),
    "landing": ("Landing lamp", 884.0, 412.0, 3.5, 1400.0),
    "beacon": ("Beacon fire", 744.0, 716.0, 11.0, 6000.0),
}
MISTS = {
    "creek": ("Creek mist", 330.0, 480.0, 90.0, 3.0),
    "beds": ("Reed beds", 430.0, 300.0, 130.0, 2.5),
    "pit": ("Over the clay pit", 801.0, 296.0, 70.0, 2.0),
}

Say = Callable[[float, str], None]


def build_demo(studio: Studio, say: Say = lambda share, words: None) -> str:
    """The id of Sallow Reach in a studio; brought in as it is kept when it is not there.

    `say` is told how far it is (0 to 1), and what is done now.
    """
    # An earlier version left this where its making was cut off.
    marker = studio.data / "demo-being-made"
    cut_off = marker.read_text() if marker.exists() else None
    marker.unlink(missing_ok=True)
    for world in list(studio.worlds()):
        if world.id == cut_off:
            studio.delete(world.id)
        elif name_of(world) == NAME:
            return world.id
    new = kept_world()

    def told() -> Iterator[tuple[TileAt, Tile]]:
        for number, tile in enumerate(new.tiles):
            if number % 8 == 0:
                say(min(number / TILES, 0.99), "laying out its land")
            yield tile

    studio.store.create(replace(new, tiles=told()))
    return new.id


TILES = 140
"""About how many there are, to say how far it is."""


def make_reach(studio: Studio, say: Say = lambda share, words: None) -> str:
    """Sallow Reach by the same commands as a user's; its id."""
    spec = WorldSpec(name=NAME, width_m=SIZE_M, depth_m=SIZE_M, spacing_m=1.0, elevation_m=5.0, sea_level_m=0.0)
    world_id = studio.create(spec, rows())
    _build(studio, world_id, say)
    return world_id


def _build(studio: Studio, world_id: str, say: Say) -> None:
    world = studio.world(world_id)
    hand, rng = _Hand(world), random.Random(SEED)
    say(0.0, "shaping moor, scar and creek")
    _shape(hand, rng)
    say(0.45, "noting plots and levels")
    _detail(world, hand)
    say(0.55, "laying covers, sowing")
    _dress(hand, rng)
    say(0.8, "joining the holm")
    _holm(studio, world, hand, rng)
    say(0.93, "letting the creek and the beck run")
    for key, (name, spring, width) in STREAMS.items():
        put_stream(world, key, PutStream(name=name, points=(spring,), width_m=width, depth_m=0.5, in_hollow="cut"))
    put_pool(world, "scar-tarn", PutPool(name="Scar tarn", x=851.0, y=765.0, share_of_brim=0.7))
    say(0.95, "mending what was left by the way")
    for tract in world.tracts.values():
        with suppress(Conflict):
            mend_flecks(world, tract, MendFlecks())
    say(0.97, "placing pieces and starts")
    furnish(world)
    set_out(world)
    for key, (name, x, y, over, lumens) in LAMPS.items():
        lamp = {"name": name, "x": x, "y": y, "over_m": over, "lumens": lumens, "shadows": True}
        world.edit(put(LAMP_ROWS, key, Lamp.model_validate(lamp)))
    for key, (name, x, y, radius, height) in MISTS.items():
        world.edit(put(MIST_ROWS, key, Mist(name=name, x=x, y=y, radius_m=radius, height_m=height)))
