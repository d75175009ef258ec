"""What stands in Sallow Reach: yards, jetty, boardwalks, kilns, caches, and the marks on its ground."""

from __future__ import annotations

from typing import Any

from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.assemblies import ASSEMBLIES as ASSEMBLY_ROWS
from fernfield.work.sites.assemblies import Assembly
from fernfield.work.sites.decals import DECALS_ROWS as DECAL_ROWS
from fernfield.work.sites.decals import Decal
from fernfield.work.sites.groups import GROUPS, Group
from fernfield.work.sites.rows import THINGS, Assembled, Piece
from fernfield.work.sites.scatters import SCATTERS, Scatter, keep_scatter

STANDING: tuple[tuple[str, str | None, str, float, float, float, int | None, bool], ...] = (
    ("start-west", None, "West yard", 196.0, 506.0, 98.0, 1, True),
    ("start-east", None, "East landing", 888.0, 408.0, 262.0, 2, False),
    ("pump-house", "pump_house", "Old pump house", 652.0, 390.0, 25.0, None, False),
    ("windpump", "windpump", "Sallow windpump", 470.0, 372.0, 0.0, None, False),
    ("upper-sluice", "sluice_gate", "Upper sluice", 415.0, 438.0, 66.0, None, False),
    ("sea-sluice", "sluice_gate", "Sea sluice", 596.0, 62.0, 84.0, None, False),
    ("barn", "stone_barn", "West barn", 172.0, 524.0, 140.0, 1, False),
    ("wall-1", "field_wall", "Yard wall", 224.0, 524.0, 96.0, 1, False),
    ("wall-2", "field_wall", "Landing wall", 872.0, 428.0, 70.0, 2, False),
    ("beacon", "beacon", "Scar beacon", 744.0, 716.0, 0.0, None, False),
    ("spring", "spring_head", "Scar spring", 560.0, 640.0, 0.0, None, False),
    ("peat", "peat_stack", "Peat stack", 214.0, 848.0, 20.0, None, False),
)
ASSEMBLIES: dict[str, tuple[str, tuple[tuple[tuple[str, float, float, float], ...], ...]]] = {
    "farmyard": ("Farmyard", (
        (("stone_barn", -16, 0, 0), ("field_wall", 0, 14, 0), ("field_wall", 12.2, 14, 0),
         ("field_wall", 18.8, 7.4, 90), ("field_wall", 18.8, -5, 90),
         ("field_wall", 12, -11.6, 0), ("field_wall", -6.7, -11.6, 0),
         ("gateway", 2, -11.6, 0), ("hand_cart", 6, 2, 30), ("tool_cache", 12, 9, 0), ("lamp_post", 2, 9, 0),
         ("peat_stack", 13, -3, 0)),
        (("stone_barn", -16, 0, 0), ("field_wall", 0, 14, 0), ("field_wall", 12.2, 14, 0),
         ("field_wall", 18.8, 7.4, 90), ("hurdle", 4, 0, 20), ("hurdle", 9, 1, 160), ("lamp_post", 2, 9, 0)),
    )),
    "landing": ("Wardens' landing", (
        (("bird_hide", -8, 0, 180), ("hurdle", 0, 7, 0), ("hurdle", 4.2, 7, 0), ("hurdle", 8.4, 7, 0),
         ("lamp_post", 2, 2, 0), ("pennant", 8, 3, 0), ("tool_cache", 5, -3, 90), ("hand_cart", -1, -5, 60)),
    )),
    "boardwalks": ("Boardwalks", (
        tuple(("boardwalk", 0, y, 0) for y in (-16.2, -8.1, 0, 8.1, 16.2)),
    )),
    "kiln-works": ("Kiln works", (
        (("lime_kiln", 0, 0, 0), ("field_wall", -11, 4, 90), ("field_wall", 11, 2, 90), ("clay_pit", 4, 15, 0),
         ("hand_cart", -6, 11, 200), ("tool_cache", -7, 7, 90), ("lamp_post", 7, 7, 0)),
    )),
    "camp": ("Wardens' camp", (
        (("tool_cache", 0, 3, 0), ("lamp_post", 2.5, 1, 0), ("hurdle", -4, -3, 90), ("hurdle", -4, 1.2, 90),
         ("hurdle", 0, -5.4, 0), ("pennant", 4, -4, 0), ("peat_stack", 5, 4, 0)),
    )),
}  # fmt: skip
"""Name and ways; of each member its entry, its place to the right of the middle and ahead [m], and its turn [°]."""
PLACED: tuple[tuple[str, str, str, float, float, float, int | None], ...] = (
    ("farm-west", "farmyard", "West farmyard", 118.0, 484.0, 8.0, 1),
    ("landing-east", "landing", "East landing place", 838.0, 406.0, 20.0, 2),
    ("boardwalk-fen", "boardwalks", "Fen boardwalk", 322.0, 428.0, 62.0, None),
    ("boardwalk-bank", "boardwalks", "Bank boardwalk", 338.0, 262.0, 20.0, None),
    ("kiln-works", "kiln-works", "Scar kiln works", 690.0, 448.0, 10.0, None),
    ("camp-moor", "camp", "Moor camp", 268.0, 838.0, 40.0, 1),
    ("camp-holt", "camp", "Holt camp", 420.0, 212.0, 200.0, 2),
)
"""Placed assemblies: which, name, place, turn and team."""
ALONE: tuple[tuple[str, str, str, float, float, float], ...] = (
    ("jetty", "jetty", "Pit jetty", 741.0, 300.0, 90.0),
    ("bridge-beck", "footbridge", "Beck bridge", 543.5, 611.0, 115.0),
    ("hide", "bird_hide", "Reed hide", 452.0, 232.0, 100.0), ("buoy-1", "marker_buoy", "Creek buoy", 514.0, 160.0, 0.0),
    ("buoy-2", "marker_buoy", "Bar buoy", 602.0, 34.0, 0.0), ("marker", "pennant", "Sluice pennant", 421.0, 452.0, 0.0),
)  # fmt: skip
CACHES: tuple[tuple[float, float], ...] = (
    (262.0, 508.0), (344.0, 332.0), (520.0, 470.0), (610.0, 418.0), (702.0, 212.0), (752.0, 452.0),
)  # fmt: skip
"""Where the wardens' tools may be: each round has half of them."""
SCATTERED: dict[str, dict[str, Any]] = {
    "cairns": {
        "name": "Cairns of the scar", "of": [{"kit": "cairn", "weight": 1}], "count": 10, "apart_m": 40, "seed": 5,
        "size_from": 0.7, "size_to": 1.2,
        "conditions": [{"what": "elevation", "from": 38.0}, {"what": "slope", "to": 14.0}],
    },
    "peat": {
        "name": "Peat of the moor", "of": [{"kit": "peat_stack", "weight": 3}, {"kit": "hurdle", "weight": 1}],
        "count": 9,
        "plot": "moor", "apart_m": 12, "seed": 3, "facing": "downhill", "turn_any_deg": 20,
        "conditions": [{"what": "slope", "to": 9.0}, {"what": "start_distance", "from": 30.0}],
    },
}  # fmt: skip
MARKS: tuple[tuple[str, str, float, float, float, float, float, str], ...] = (
    ("ruts-west", "tracks", 212.0, 498.0, 5.0, 16.0, 62.0, "#5a4836"),
    ("ruts-kiln", "tracks", 693.0, 428.0, 5.0, 14.0, 8.0, "#5a4836"),
    ("lime", "stain", 696.0, 456.0, 9.0, 9.0, 0.0, "#e4dfd0"),
    ("fire", "stain", 746.0, 712.0, 7.0, 7.0, 0.0, "#2b2825"),
    ("way", "arrow", 870.0, 402.0, 3.0, 5.0, 258.0, "#efe9d8"),
    ("berth", "cross", 739.0, 300.0, 1.6, 1.6, 90.0, "#efe9d8"),
)
"""Decals: picture, place, width, depth, turn and colour."""


def furnish(world: OpenWorld) -> None:
    """Pieces and starts, assemblies, scatters, candidate places and marks on the ground."""
    for key, kit, name, x, y, turn, team, default in STANDING:
        own = {"sort": "piece", "kit": kit} if kit else {"sort": "start", "default": default}
        world.edit(
            put(THINGS, key, THINGS.checked({**own, "name": name, "x": x, "y": y, "turn_deg": turn, "team": team}))
        )
    for key, (name, ways) in ASSEMBLIES.items():
        every = [
            {"members": [{"kit": kit, "x": x, "y": y, "turn_deg": turn} for kit, x, y, turn in way]} for way in ways
        ]
        world.edit(put(ASSEMBLY_ROWS, key, Assembly.model_validate({"name": name, "ways": every})))
    for key, assembly, name, x, y, turn, team in PLACED:
        placed = Assembled(assembly=assembly, name=name, x=x, y=y, turn_deg=turn, team=team)
        world.edit(put(THINGS, key, placed))
    for key, kit, name, x, y, turn in ALONE:
        world.edit(put(THINGS, key, Piece(kit=kit, name=name, x=x, y=y, turn_deg=turn)))
    world.edit(put(GROUPS, "caches", Group(name="Tool caches", draws=3)))
    for number, (x, y) in enumerate(CACHES, 1):
        cache = Piece(kit="tool_cache", name=f"Cache {number}", x=x, y=y, turn_deg=37.0 * number % 360, group="caches")
        world.edit(put(THINGS, f"cache-{number}", cache))
    for key, said in SCATTERED.items():
        world.edit(put(SCATTERS, key, Scatter.model_validate(said)))
        keep_scatter(world, key)
    for key, picture, x, y, wide, deep, turn, colour in MARKS:
        said = {"name": key.replace("-", " ").capitalize(), "picture": picture, "x": x, "y": y, "colour": colour}
        mark = Decal.model_validate({**said, "width_m": wide, "depth_m": deep, "turn_deg": turn})
        world.edit(put(DECAL_ROWS, key, mark))
