"""Sites: the kit, placing pieces and starts, and the stage's panel."""

from __future__ import annotations

import secrets
from dataclasses import asdict
from typing import Annotated, Any

from fastapi import Query, Response
from typing_extensions import TypedDict

from fernfield.core.errors import named as found
from fernfield.core.sites.kit import KIT, TEAM_COLOURS, TEAM_MARKS, KitPiece
from fernfield.core.sites.shapes import piece_shape, start_shape
from fernfield.web.kernel.panels import Asked, Panel, Shortcut
from fernfield.web.kernel.parts import Keyed, TheWorld, keyed_json
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.rows import Metres
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.posts.places import from_world
from fernfield.work.sites.rows import THINGS, ToPlace, named

router = Router(prefix="/api", tags=["sites"])

NO_TEAM = "#56605a"
"""The colour of a start that is of no team."""


class Team(TypedDict):
    team: int
    mark: str
    colour: str


class KitTold(TypedDict):
    pieces: list[KitPiece]
    teams: list[Team]


def teams_json() -> list[Team]:
    """The teams by their numbers, each with its mark."""
    both = enumerate(zip(TEAM_MARKS, TEAM_COLOURS, strict=True), 1)
    return [{"team": number, "mark": mark, "colour": colour} for number, (mark, colour) in both]


@router.get("/kit")
def kit() -> Annotated[dict[str, Any], KitTold]:
    """The pieces that can be placed, and the teams with their marks."""
    return {"pieces": [asdict(piece) for piece in KIT.values()], "teams": teams_json()}


@router.get("/kit/{piece}/shape", response_class=Response)
def shape(piece: str, team: Annotated[int, Query(ge=0, le=len(TEAM_COLOURS))] = 0) -> Response:
    """The triangles of a piece, or of a start of a team (0: of none), three corners each, as little-endian float32: x
    across, y along its facing, z up, normal, colour (0 to 1)."""
    if piece == "start":
        corners = start_shape(TEAM_COLOURS[team - 1] if team else NO_TEAM)
    else:
        corners = piece_shape(found(KIT, "piece", piece))
    headers = {"X-Shape": ",".join(map(str, corners.shape)), "cache-control": "max-age=60"}
    return Response(corners.astype("<f4").tobytes(), media_type="application/octet-stream", headers=headers)


@router.post("/worlds/{world}/things", status_code=201)
def place_thing(wanted: ToPlace, world: TheWorld, response: Response, within: Metres = "tract") -> Keyed:
    """Place a piece or a start. A name that is left out is the next of its sort; so is a start's team."""
    key = secrets.token_hex(5)
    with world.lock:
        if within == "world":
            own = from_world(world, THINGS, None, wanted.model_dump(exclude_unset=True))
            wanted = ToPlace.model_validate(own)
        outcome = world.edit(put(THINGS, key, named(world, wanted)))
    response.headers["location"] = f"/api/worlds/{world.id}/things/{key}"
    return keyed_json(key, outcome)


def _context(asked: Asked) -> dict[str, Any]:
    return {"kit": KIT.values()}


PANEL = Panel(
    "sites",
    _context,
    script=True,
    shortcuts=(Shortcut(("Delete",), "delete what is chosen", "remove", "stage"),),
)
