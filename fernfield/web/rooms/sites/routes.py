"""Sites: the kit, things and what is done to many of them, scatters, rounds; and the stage's panel."""

from __future__ import annotations

import csv
import io
import json
import secrets
from typing import Annotated, Any

import numpy as np
from fastapi import File, Form, Query, Response, UploadFile
from PIL import Image
from typing_extensions import TypedDict

from fernfield.core.errors import NotFound
from fernfield.core.errors import named as found
from fernfield.core.sites.decals import DECALS, LETTERS, decal
from fernfield.core.sites.shipped import KIT
from fernfield.core.sites.solids import entry_shape, start_shape
from fernfield.core.sites.teams import COLOURS
from fernfield.formats.mesh import check_size
from fernfield.formats.model import MOST_BYTES, from_obj
from fernfield.store.worlds import ModelRow
from fernfield.web.kernel.many import Metres, Taking
from fernfield.web.kernel.panels import Asked, Panel, Shortcut
from fernfield.web.kernel.parts import Keyed, TheLand, TheStudio, TheWorld, keyed_json
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.rows import partial_of
from fernfield.web.kernel.uploads import Named, upload
from fernfield.web.rooms.sites.play_parts import THEN, WHEN, WINS, play_forms
from fernfield.work.asking.conditions import whats_told
from fernfield.work.bringing.models import add_model
from fernfield.work.kernel.commands import put, said_of
from fernfield.work.kernel.posts.places import from_world
from fernfield.work.kernel.rows import Key, TractId
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.sites.arranging import Arrange, Arranged, ArrangeThings, arrange
from fernfield.work.sites.assemblies import Assembly
from fernfield.work.sites.decals import DECALS_ROWS, PICTURES, Decal, OnTop, decals_on_tops, picture_of
from fernfield.work.sites.findings import SettleThings, settle_things
from fernfield.work.sites.groups import Group
from fernfield.work.sites.joining import Join, Loosen, join_things, loosen
from fernfield.work.sites.kit import EntryTold, KitEntry, entry_told, found_in_kit, kit_of
from fernfield.work.sites.play.aims import SORTS, Guard, Hold, Objective
from fernfield.work.sites.play.doors import Door, Launch
from fernfield.work.sites.play.findings import Total, totals
from fernfield.work.sites.play.teams import STANDS, looks_of_teams
from fernfield.work.sites.proposing import LayThings, Proposal, lay_things
from fernfield.work.sites.road_ways import FindWay, FoundWay, WayCosts, find_ways
from fernfield.work.sites.roads import Road, RoadFigures, build_anew, figures_of
from fernfield.work.sites.rounds import Round, round_of
from fernfield.work.sites.rows import THINGS, Assembled, Piece, Start, Wall, named
from fernfield.work.sites.scatters import SCATTERS, Scatter, keep_scatter, scattered

router = Router(prefix="/api", tags=["sites"])

NO_TEAM = "#56605a"
"""The colour of a start that is of no team."""

ToPlace = partial_of(THINGS, "ToPlace", ("x", "y"))
Seed = Annotated[int, Query(ge=0, le=2**31 - 1)]
Detail = Annotated[int, Query(ge=0, le=2, description="2 near, 0 far away")]


class TeamLook(TypedDict):
    team: int
    name: str
    mark: str
    colour: str


def teams_json(world: OpenWorld) -> list[TeamLook]:
    """Every team that there can be by its number: as it was said, or as it comes."""
    looks = looks_of_teams(world)
    return [{"team": number, "name": name, "mark": mark, "colour": colour} for number, name, mark, colour in looks]


# The kit


@router.get("/worlds/{world}/kit", tags=["kit"])
def kit(
    world: TheWorld,
    find: Annotated[str, Query(max_length=100)] = "",
    folder: Annotated[str | None, Query(max_length=60)] = None,
) -> list[EntryTold]:
    """The entries of the kit: those of a folder, and those in which each word of `find` stands (in the name, a tag, the
    folder, or the size in metres)."""
    with world.lock:
        return [entry_told(world, entry) for entry in found_in_kit(world, find, folder)]


def _shape(corners: Any) -> Response:
    headers = {"X-Shape": ",".join(map(str, corners.shape)), "cache-control": "max-age=60"}
    return Response(corners.astype("<f4").tobytes(), media_type="application/octet-stream", headers=headers)


@router.get("/worlds/{world}/kit/{key}/shape", response_class=Response, tags=["kit"])
def shape(
    key: Key, world: TheWorld, detail: Detail = 2, look: Key | None = None,
    tint: Annotated[str | None, Query(pattern=r"^#[0-9a-f]{6}$")] = None,
) -> Response:  # fmt: skip
    """The triangles of an entry, three corners each, as little-endian float32: x across, y along its facing, z up,
    normal, colour (0 to 1)."""
    with world.lock:
        entry = found(dict(kit_of(world)), "entry", key)
    return _shape(entry_shape(entry, look, detail, tint))


@router.get("/start/shape", response_class=Response)
def start(
    team: Annotated[int, Query(ge=0, le=len(COLOURS))] = 0,
    tint: Annotated[str | None, Query(pattern=r"^#[0-9a-f]{6}$")] = None,
) -> Response:
    """The triangles of a start of a team (0: of none), as those of an entry; in the colour that teams come with, or in
    another."""
    return _shape(start_shape(tint or (COLOURS[team - 1] if team else NO_TEAM)))


@router.post("/worlds/{world}/kit/model", status_code=201, tags=["kit"])
def bring(
    world: TheWorld, studio: TheStudio, file: Annotated[UploadFile, File()], name: Annotated[str, Form()]
) -> ModelRow:
    """Bring a shape for the kit: glTF 2.0 in one file, or OBJ; up to 20,000 triangles."""
    named_ = Named(name=name)
    with upload(studio, file) as path:
        check_size(path, MOST_BYTES)
        body = path.read_bytes()
        if (file.filename or "").lower().endswith(".obj"):
            body = from_obj(body)
        return add_model(world, named_.name, body)


# Things


@router.post("/worlds/{world}/things", status_code=201)
def place_thing(wanted: ToPlace, world: TheWorld, response: Response, within: Metres = "tract") -> Keyed:  # type: ignore[valid-type]
    """Place a piece, an assembly or a start. A name that is left out is the next of its sort; so is a start's team."""
    key = secrets.token_hex(5)
    said = {name: value for name, value in said_of(wanted).items() if value is not None or name == "team"}
    with world.lock:
        if within == "world":
            said = from_world(world, THINGS, None, said)
        outcome = world.edit(put(THINGS, key, named(world, said)))
    response.headers["location"] = f"/api/worlds/{world.id}/things/{key}"
    return keyed_json(key, outcome)


@router.patch("/worlds/{world}/things", tags=["things"])
def change_things(command: ArrangeThings, world: TheWorld, within: Metres = "tract") -> Arranged:
    """Move, turn, size, raise, mirror, line up, copy, exchange all things in `ids`, as one revision: they, and what
    stands on them. Points are in the metres of the first one's tract."""
    return arrange(world, command.ids, command.change, within=within)


@router.get("/worlds/{world}/things.csv", response_class=Response, tags=["things"])
def things_csv(
    world: TheWorld, tract: Annotated[TractId | None, Query()] = None,
    ids: Annotated[str | None, Query(max_length=300_000, description="keys with commas; all when left out")] = None,
) -> Response:  # fmt: skip
    """Things as CSV with a line of names: in the metres of their tracts."""
    with world.lock:
        rows = world.each(THINGS) if tract is None else world.each_in(THINGS, world.tract(tract).row.id)
        wanted = None if ids is None else set(ids.split(","))
        told = [THINGS.tell(world, key, row) for key, row in rows if wanted is None or key in wanted]
    names = ["key", "sort", "kit", "assembly", "name", "x", "y", "z", *(
        name for name in THINGS.fields if name not in ("sort", "kit", "assembly", "name", "x", "y")
    )]  # fmt: skip
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(names)
    for row in told:
        writer.writerow([_cell(row.get(name)) for name in names])
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8")


def _cell(value: Any) -> Any:
    if value is None:
        return ""
    return json.dumps(value) if isinstance(value, bool | dict | list) else value


class Laid(Edited):
    """What a pattern came to, and the keys of what was placed."""

    proposal: Proposal
    ids: list[str]


@router.post("/worlds/{world}/things/lay", tags=["things"])
def lay(
    wanted: LayThings, world: TheWorld, take: Taking = "look", tract: Annotated[TractId | None, Query()] = None,
    within: Metres = "tract",
) -> Laid:  # fmt: skip
    """Look at, or place, things in an order: at spots, along a line, in a ring, an arc or a grid. Places are in the
    metres of the tract that is named (the first when left out), or of the world."""
    with world.lock:
        land = _land(world, tract, within)
        proposal, outcome, ids = lay_things(world, land, wanted, take)
    edited = outcome.public() if outcome is not None else _unchanged(world)
    return {"proposal": proposal.told(), "ids": ids, **edited}


def _land(world: OpenWorld, tract: str | None, within: str) -> Any:
    own = (world.first_tract if tract is None else world.tract(tract)).row.id
    return world.country(own) if within == "world" else world.land_from(own)


def _unchanged(world: OpenWorld) -> Edited:
    return {
        "revision": world.revision,
        "changed": False,
        "window": [0, 0, 0, 0],
        "cut_m3": 0.0,
        "fill_m3": 0.0,
        "words": "",
    }


@router.post("/worlds/{world}/things/settle", tags=["things"])
def settle(command: SettleThings, world: TheWorld) -> Edited:
    """Put the feet of things back on the ground and lay their pads anew."""
    return settle_things(world, command).public()


@router.post("/worlds/{world}/things/join", status_code=201, tags=["things"])
def join(command: Join, world: TheWorld) -> Keyed:
    """Save things as an assembly, which is placed where they stood; in the place of another (`key`) those placed of it
    follow."""
    return keyed_json(*join_things(world, command))


class Loosened(Edited):
    """What an assembly was made of: the ids of its pieces."""

    ids: list[str]


@router.post("/worlds/{world}/things/loosen", tags=["things"])
def loosen_things(command: Loosen, world: TheWorld) -> Loosened:
    """Make placed assemblies the pieces that they are of: from then on they follow it no more."""
    outcome, ids = loosen(world, command)
    return {"ids": ids, **outcome.public()}


# Scatters and rounds


@router.post("/worlds/{world}/scatters/{key}/try", tags=["scatters"])
def try_scatter(key: Key, world: TheWorld, seed: Seed | None = None) -> Proposal:
    """What a scatter would place now, by its own seed or another, and why others do not fit. Nothing changes. Places
    are in the metres of its tract."""
    with world.lock:
        return scattered(world, key, world.row(SCATTERS, key), seed)[1].told()


class Kept(Edited):
    """What a scatter has placed, and what it wanted."""

    wanted: int
    found: int
    why: dict[str, int]


@router.post("/worlds/{world}/scatters/{key}/keep", tags=["scatters"])
def keep(key: Key, world: TheWorld) -> Kept:
    """Place what a scatter comes to now in the stead of what it placed before; what was moved by hand stays."""
    proposal, outcome = keep_scatter(world, key)
    return {"wanted": proposal.wanted, "found": len(proposal.things), "why": dict(proposal.why), **outcome.public()}


@router.get("/worlds/{world}/round")
def play_round(world: TheWorld, seed: Seed = 1) -> Round:
    """Which candidate places a round has, by its seed."""
    with world.lock:
        return round_of(world, seed)


# What a round is played for


@router.get("/worlds/{world}/totals", tags=["resources"])
def resource_totals(world: TheWorld) -> list[Total]:
    """What there is to gather by its sorts, and how much of it is each team's: what it owns, else what lies nearest to
    a start of its."""
    with world.lock:
        return totals(world)


# Roads


@router.get("/worlds/{world}/roads/{key}/figures", tags=["roads"])
def road_figures(key: Key, world: TheWorld) -> RoadFigures:
    """How long a road is, how much one climbs along it, how steep it is where it is steepest, and what was cut and
    filled for it: by the land as it is now."""
    return figures_of(world, key)


@router.post("/worlds/{world}/roads/{key}/build", tags=["roads"])
def build_road(key: Key, world: TheWorld) -> Edited:
    """Build a road anew, on the land as it is now."""
    return build_anew(world, key).public()


class FoundWays(TypedDict):
    """The cheapest way first."""

    ways: list[FoundWay]


@router.post("/lands/{tract}/find-way", tags=["roads"])
def find_way(wanted: FindWay, at: TheLand) -> FoundWays:
    """Ways for a road between two places that are nowhere steeper than is said, from post to post of the land. Nothing
    changes."""
    world, land = at
    return {"ways": find_ways(world, land, wanted)}


# Decals


@router.get("/decals/{picture}.png", response_class=Response)
def decal_png(picture: Key) -> Response:
    """A shipped decal as 8-bit greyscale PNG: how opaque it is."""
    found(dict.fromkeys(DECALS), "decal", picture)
    return _png(Image.fromarray((decal(picture) * 255).round().astype(np.uint8)), "max-age=3600")


@router.get("/worlds/{world}/decals/{key}/picture.png", response_class=Response)
def decal_picture(key: Key, world: TheWorld) -> Response:
    """How opaque a placed decal is at every place, as the alpha of a white 8-bit PNG."""
    with world.lock:
        alpha = picture_of(world, world.row(DECALS_ROWS, key))
    if alpha is None:
        raise NotFound("the picture of this mark has gone")
    white = np.full((*alpha.shape, 2), 255, np.uint8)
    white[..., 1] = (alpha * 255).round()
    return _png(Image.fromarray(white, "LA"), "no-cache")


def _png(image: Image.Image, kept: str) -> Response:
    out = io.BytesIO()
    image.save(out, "PNG")
    return Response(out.getvalue(), media_type="image/png", headers={"cache-control": kept})


@router.get("/worlds/{world}/decals-on-tops")
def on_tops(world: TheWorld) -> list[OnTop]:
    """What decals mark of the pieces that can be stood on, in the frames of these pieces; later ones last."""
    return decals_on_tops(world)


def _context(asked: Asked) -> dict[str, Any]:
    return {
        "Piece": Piece, "Start": Start, "Assembled": Assembled, "Wall": Wall, "Arrange": Arrange,
        "Scatter": Scatter, "Decal": Decal,
        "Group": Group, "Road": Road, "FindWay": FindWay, "WayCosts": WayCosts,
        "Assembly": Assembly, "KitEntry": KitEntry, "told": whats_told(), "decals": PICTURES,
        "LETTERS": LETTERS, "shipped": list(KIT), "brought": asked.world.store.models(asked.world.id),
        "pictures": asked.world.store.pictures(asked.world.id), "play": play_forms(), "stands": STANDS, "sorts": SORTS,
        "play_words": {"when": WHEN, "then": THEN, "wins": WINS}, "Hold": Hold, "Guard": Guard, "Objective": Objective,
        "Door": Door, "Launch": Launch,
    }  # fmt: skip


PANEL = Panel(
    "sites",
    _context,
    script=True,
    shortcuts=(
        Shortcut(("Delete",), "delete what is chosen", "remove", "stage"),
        Shortcut(("b",), "choose in a box", "choose-box", "stage"),
        Shortcut(("g",), "put the feet of what is chosen on the ground", "drop-things", "stage"),
        Shortcut(("Ctrl+a",), "choose all that is listed", "choose-listed", "stage"),
    ),
)
