"""Sites: pieces and starts, and the kit that pieces come from."""

from __future__ import annotations

import secrets
from dataclasses import asdict
from typing import Any

from fastapi import APIRouter, Response

from fernfield.core.sites.kit import KIT, TEAM_COLOURS, TEAM_MARKS
from fernfield.web.api.parts import TheWorld, outcome_json
from fernfield.work.commands import PutThing, RemoveThing
from fernfield.work.entries import Key, Thing
from fernfield.work.handover import site_rows

router = APIRouter(prefix="/api", tags=["sites"])


@router.get("/kit")
def kit() -> dict[str, Any]:
    teams = [
        {"team": number + 1, "mark": mark, "colour": colour}
        for number, (mark, colour) in enumerate(zip(TEAM_MARKS, TEAM_COLOURS, strict=True))
    ]
    return {"pieces": [asdict(piece) for piece in KIT.values()], "teams": teams}


@router.get("/worlds/{world}/things")
def things(world: TheWorld) -> list[dict[str, Any]]:
    with world.lock:
        return [row for tract in world.tracts.values() for row in site_rows(world, tract)]


@router.post("/worlds/{world}/things", status_code=201)
def place_thing(thing: Thing, world: TheWorld, response: Response) -> dict[str, Any]:
    key = secrets.token_hex(5)
    outcome = world.edit(PutThing(key=key, thing=thing))
    response.headers["location"] = f"/api/worlds/{world.id}/things/{key}"
    return {"id": key, **outcome_json(outcome)}


@router.put("/worlds/{world}/things/{key}")
def put_thing(key: Key, thing: Thing, world: TheWorld) -> dict[str, Any]:
    return {"id": key, **outcome_json(world.edit(PutThing(key=key, thing=thing)))}


@router.delete("/worlds/{world}/things/{key}")
def remove_thing(key: Key, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(RemoveThing(key=key)))
