"""A world itself: its name, its icon, and the rows that a new one begins with."""

from __future__ import annotations

import base64
from typing import Annotated

from pydantic import StringConstraints

from fernfield.work.cover.rows import Cover
from fernfield.work.cover.ruling import CoverRules
from fernfield.work.growth.rows import Kind, Mix, Part
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rooms import Package
from fernfield.work.kernel.rows import ONLY, Change, Collection, Look, Name, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import Light
from fernfield.work.water.rows import Water


class About(Row):
    """Collection "about", key "world"."""

    name: Name
    description: Annotated[
        str, StringConstraints(strip_whitespace=True, max_length=2000), Say("Description", long=True)
    ] = ""


class Icon(Row):
    """Collection "icon", key "world": a square PNG of at most 120 pixels a side, as base64."""

    png: Annotated[str, StringConstraints(max_length=120_000, pattern=r"^[A-Za-z0-9+/=]+$"), UNASKED]


def _plan_about(change: Change[About], look: Look) -> Plan:
    new, old = change.new, change.old
    made = plainly(ABOUT, change)
    if new is not None:
        made.words = f"Renamed to {new.name}" if old is None or old.name != new.name else f"Described {new.name}"
    return made


def _plan_icon(change: Change[Icon], look: Look) -> Plan:
    verb = "Took away" if change.new is None else "Set"
    return Plan(f"{verb} the icon", {("icon", change.key): change.new})


ABOUT = Collection(
    "about", About, "world", only=ONLY, first=About(name="World without a name"), told=False, plain=False,
    plan=_plan_about,
)  # fmt: skip
ICON = Collection("icon", Icon, "icon", only=ONLY, told=False, plain=False, plan=_plan_icon)


def name_of(world: OpenWorld) -> str:
    return world.only(ABOUT).name


def put_icon(package: Package, world: OpenWorld) -> None:
    """The icon as a file of a package."""
    icon = world.get(ICON, ONLY)
    if icon is not None:
        package.put("icon.png", iter([base64.b64decode(icon.png)]))


STEEP = {"cover": "rock", "name": "Steep ground", "conditions": [{"what": "slope", "from": 38, "soft": 6}]}
"""The rule that a new world begins with."""


def default_rows(name: str, sea_level_m: float, description: str = "") -> list[tuple[str, str, Row]]:
    """The rows of a new world: a base cover and three more, two kinds and a mix of them, an afternoon sun."""
    return [
        ("about", "world", About(name=name, description=description)),
        ("water", "sea", Water(sea_level_m=sea_level_m)),
        ("light", "sun", Light()),
        ("covers", "grass", Cover(name="Grass", colour="#9fa36c", position=0, texture="turf")),
        ("covers", "earth", Cover(name="Earth", colour="#8b7357", position=1, texture="peat", tile_m=6)),
        ("covers", "path", Cover(name="Path", colour="#c9b48a", position=2, texture="trodden")),
        (
            "covers",
            "rock",
            Cover(name="Rock", colour="#a39d92", position=3, texture="slabs", steep_texture="layers", tile_m=8),
        ),
        ("cover-rules", "world", CoverRules.model_validate({"rules": [STEEP]})),
        (
            "kinds",
            "tree",
            Kind(
                name="Tree",
                form="broadleaf",
                tall_m=7.0,
                crown_m=2.2,
                trunk_m=0.25,
                blocks="trunk",
                bends=0.4,
                colour="#3f6b43",
            ),
        ),
        (
            "kinds",
            "boulder",
            Kind(
                name="Boulder",
                form="boulder",
                tall_m=1.0,
                crown_m=0.8,
                trunk_m=0.7,
                leans=1.0,
                blocks="trunk",
                colour="#8b877c",
                dry_colour="#9a9384",
            ),
        ),
        (
            "mixes",
            "mix",
            Mix(
                name="Trees and stones",
                seed=7,
                density_per_ha=245,
                kinds=(
                    Part(
                        kind="tree", weight=220, size_min=1.0, size_max=1.5, width_min=0.85, width_max=1.15, apart_m=2.5
                    ),
                    Part(
                        kind="boulder", weight=25, size_min=0.6, size_max=2.0, spread="small", sink_max_m=0.2, apart_m=3
                    ),
                ),
            ),
        ),
    ]
