"""Pieces, assemblies and starts of a tract in a package, as GeoJSON in local metres; and the kit that they are of."""

from __future__ import annotations

import json
from typing import Any

from fernfield.formats.rowfiles import rows_geojson
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.rows import Collection
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import PARTS
from fernfield.work.sites.assemblies import ASSEMBLIES
from fernfield.work.sites.groups import GROUPS
from fernfield.work.sites.kit import entry_told, kit_of
from fernfield.work.sites.play.cues import CUES
from fernfield.work.sites.play.rules import RULES
from fernfield.work.sites.play.teams import RELATIONS, TEAMS
from fernfield.work.sites.rows import THINGS, Assembled, Piece, Wall, things_of
from fernfield.work.sites.scatters import SCATTERS
from fernfield.work.sites.standing import members_of

KIT_FILE = "sites/kit.json"
SHARED: tuple[Collection[Any], ...] = (ASSEMBLIES, GROUPS, SCATTERS)
PLAY_FILE = "sites/play.json"
PLAYED: tuple[Collection[Any], ...] = (TEAMS, RELATIONS, RULES, CUES, PARTS)


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    file = f"sites/{tract.row.id}.geojson"
    rows = [THINGS.tell(world, key, thing) for key, thing in things_of(world, tract.row.id)]
    package.put(file, iter([rows_geojson(rows, THINGS.lies)]))
    return {"sites": {"file": file}}


SITES_PART = PackagePart("pieces and starts as GeoJSON", _put, weight=0.2)


def sites_manifest(world: OpenWorld) -> dict[str, Any]:
    told = {"kit": {"file": KIT_FILE}} if world.rows[THINGS.name] else {}
    return told | ({"play": {"file": PLAY_FILE}} if _is_played(world) else {})


def _is_played(world: OpenWorld) -> bool:
    return any(world.rows[one.name] for one in PLAYED)


def _whole_play(package: Package, world: OpenWorld) -> None:
    """Teams, how they stand to each other, the rules, the cues and the parts."""
    with world.lock:
        if not _is_played(world):
            return
        said: dict[str, Any] = {one.name: world.told(one) for one in PLAYED}
    package.put(PLAY_FILE, iter([json.dumps(said, indent=1, ensure_ascii=False).encode()]))


def whole_sites(package: Package, world: OpenWorld) -> None:
    """What belongs to no tract: the entries of the kit that are used, assemblies, groups and scatters; and a round."""
    _whole_play(package, world)
    with world.lock:
        if not world.rows[THINGS.name]:
            return
        used: set[str] = set()
        for _, thing in things_of(world):
            if isinstance(thing, Piece):
                used.add(thing.kit)
            elif isinstance(thing, Assembled | Wall):
                used |= {one["kit"] for one in members_of(world, thing)}
        kit = kit_of(world)
        said = {
            "kit": [entry_told(world, kit[key]) for key in sorted(used) if key in kit],
            **{c.name: world.told(c) for c in SHARED},
        }
    package.put(KIT_FILE, iter([json.dumps(said, indent=1, ensure_ascii=False).encode()]))
