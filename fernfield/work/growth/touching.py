"""What a hand does to single plants: put, move, turn, size, raise, copy, change, take away, re-dress, settle.

Each is one revision. A plant is known by its id as long as it is there: one that was sown by its place in its mix's
pattern, one that was put by hand by a number.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.growth.scatter import Plants
from fernfield.core.growth.shapes import VARIANTS
from fernfield.formats.plantblob import PLANT
from fernfield.formats.plantblob import Plants as Records
from fernfield.work.growth.hand import codes_of, hand_of, kept
from fernfield.work.growth.listing import id_of
from fernfield.work.growth.rows import KINDS, MIXES, VARIANTS_CALLED, Mix, Part, Variant
from fernfield.work.growth.standing import sown_of
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Bearing, Key, Moves
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.ledger import Edited

MOST_TOUCHED = 10_000
SOWN = re.compile(r"([a-z0-9_-]{1,40})\.([a-z0-9_-]{1,40})\.(-?\d{1,7})\.(-?\d{1,7})\.(\d{1,6})")
PUT = re.compile(r"h([0-9a-f]{8})")

Metres = Annotated[float, Field(ge=-1e6, le=1e6)]
Factor = Annotated[float, Field(gt=0, le=60)]
Over = Annotated[float, Field(ge=-300, le=300)]
PlantId = Annotated[str, Field(max_length=110)]
Ids = Annotated[list[PlantId], Field(min_length=1, max_length=MOST_TOUCHED)]


class NewPlant(Command):
    """A plant to put. size_width : left out, as its height; over_m : of its foot over the ground [m]"""

    mix: Key
    kind: Key
    x: Metres
    y: Metres
    size_height: Factor = 1.0
    size_width: Factor | None = None
    turn_deg: Bearing = 0.0
    tilt_deg: Annotated[float, Field(ge=0, le=60)] = 0.0
    tilt_to_deg: Bearing = 0.0
    tint: Annotated[float, Field(ge=0, le=1)] = 0.0
    over_m: Over = 0.0
    variant: Variant = "plain"


class PutPlants(Command):
    """Put plants, each where it is said."""

    do: Literal["put_plants"] = "put_plants"
    plants: Annotated[list[NewPlant], Field(min_length=1, max_length=MOST_TOUCHED)]


class PlantChange(Command):
    """What becomes of plants; what is left out stays.

    dx_m, dy_m : they are moved; turn_by_deg, size_by, width_by, raise_by_m : more or less than now
    turn_deg, size_height, over_m : all alike; turn_any_deg : by chance, so far to both sides
    size_from, size_to : by chance between these; variant : how they look; copied : the change is done to copies
    """

    dx_m: Annotated[Metres, Say("East by", "m", left_out="0")] = 0.0
    dy_m: Annotated[Metres, Say("North by", "m", left_out="0")] = 0.0
    turn_by_deg: Annotated[float, Field(ge=-360, le=360), Say("Turn by", "°")] = 0.0
    turn_deg: Annotated[Bearing | None, Say("Face", "°", left_out="as they do")] = None
    turn_any_deg: Annotated[float, Field(ge=0, le=180), Say("By chance, give or take", "°")] = 0.0
    size_by: Annotated[float, Field(gt=0, le=20), Say("Height times", "×")] = 1.0
    width_by: Annotated[float, Field(gt=0, le=20), Say("Width times", "×")] = 1.0
    size_height: Annotated[Factor | None, Say("Size", "×", left_out="as it is")] = None
    size_from: Annotated[Factor | None, Say("Size by chance, from", "×", left_out="as it is")] = None
    size_to: Annotated[Factor | None, Say("Size by chance, to", "×", left_out="as it is")] = None
    raise_by_m: Annotated[Over, Say("Raise by", "m")] = 0.0
    over_m: Annotated[Over | None, Say("Over the ground", "m", left_out="as it is")] = None
    variant: Annotated[Variant | None, Say("Looks", left_out="as it does", called=VARIANTS_CALLED)] = None
    copied: Annotated[bool, UNASKED] = False


class ChangePlants(Command):
    do: Literal["change_plants"] = "change_plants"
    ids: Ids
    change: PlantChange


class HandWork(Command):
    """What the logbook keeps of a work on single plants, whose ids may be many: the rows that changed say the rest."""

    do: Literal["hand_work"] = "hand_work"
    work: str
    count: int


class DropPlants(Command):
    """Take plants away."""

    do: Literal["drop_plants"] = "drop_plants"
    ids: Ids


class SettlePlants(Command):
    """Put the feet of plants that were touched back on the ground, as deep as their mix says; all when none is said."""

    do: Literal["settle_plants"] = "settle_plants"
    ids: Ids | None = None


class RedressPlants(Command):
    """Give plants that were touched back to their mix: those that were sown are as they were sown, those put by hand
    stay where they are and get sizes, turns and tints as the mix says now. All when none is said."""

    do: Literal["redress_plants"] = "redress_plants"
    ids: Ids | None = None


@dataclass
class Touching:
    """What an edit works on: records in one list of names, x and y in the world's metres, and the tract of each."""

    records: Records
    names: list[tuple[str, str]]
    tracts: list[str]

    def name(self, mix: str, kind: str) -> int:
        if (mix, kind) not in self.names:
            self.names.append((mix, kind))
        return self.names.index((mix, kind))

    def those(self, which: NDArray[np.bool_]) -> Touching:
        """Some of them."""
        tracts = [tract for tract, on in zip(self.tracts, which.tolist(), strict=True) if on]
        return Touching(self.records[which], list(self.names), tracts)


Out = dict[str, set[object]]
Scope = Sequence[str]
"""The tracts whose plants are meant when no ids are said."""


class Planted(Edited):
    """What came of plants that were put or copied: the ids of those that are new."""

    ids: list[str]


def put_plants(world: OpenWorld, corner: tuple[float, float], command: PutPlants) -> Planted:
    """Their ids, in the order of the command, whose places are metres from `corner` (in the world's). Raises NotFound
    for a mix or kind, InvalidInput outside of all tracts."""
    made: list[str] = []
    with world.lock:
        found = Touching(np.zeros(len(command.plants), PLANT), [], [])
        taken = set(hand_of(world).plants["id"].tolist())
        for at, plant in enumerate(command.plants):
            world.row(MIXES, plant.mix)
            world.row(KINDS, plant.kind)
            x, y = plant.x + corner[0], plant.y + corner[1]
            tract = _tract_at(world, x, y)
            if tract is None:
                words = f"the plant must stand in a tract, not at {plant.x:g}, {plant.y:g}"
                raise InvalidInput(words, f"plants.{at}.x")
            number = _fresh(taken)
            made.append(id_of("", "", (0, 0), 0, number))
            found.tracts.append(tract)
            found.records[at] = (
                number, found.name(plant.mix, plant.kind), False, False, x, y, plant.over_m, plant.size_height,
                plant.size_width or plant.size_height, plant.turn_deg, plant.tilt_deg, plant.tilt_to_deg, plant.tint,
                VARIANTS.index(plant.variant), 0, 0, 0,
            )  # fmt: skip
        outcome = _written(world, command, _count(len(made), "Put {} by hand"), found, {})
    return {"ids": made, **outcome.public()}


def change_plants(world: OpenWorld, command: ChangePlants) -> Planted:
    """Move, turn, size, raise or copy plants; the ids of copies come back. Raises NotFound for an id."""
    made: list[str] = []
    change = command.change
    if (change.size_from is None) != (change.size_to is None) or (change.size_from or 0) > (change.size_to or 0):
        raise InvalidInput("size_from and size_to go together, the smaller first", "change.size_from")
    with world.lock:
        found, out = _found(world, command.ids)
        records = found.records
        if change.copied:
            taken = set(hand_of(world).plants["id"].tolist())
            records["id"] = [_fresh(taken) for _ in range(len(records))]
            records["sown"] = False
            out = {}
            made = [id_of("", "", (0, 0), 0, number) for number in records["id"].tolist()]
        records["x"] += change.dx_m
        records["y"] += change.dy_m
        _home(world, found)
        chance = np.random.default_rng([31, *records["number"][:4].tolist()]).random((len(records), 2))
        turn = records["turn"] if change.turn_deg is None else np.full(len(records), change.turn_deg)
        records["turn"] = (turn + change.turn_by_deg + change.turn_any_deg * (2 * chance[:, 0] - 1)) % 360
        was = records["height"].copy()
        high = was * change.size_by if change.size_height is None else np.full(len(records), change.size_height)
        if change.size_from is not None and change.size_to is not None:
            high = change.size_from + (change.size_to - change.size_from) * chance[:, 1]
        records["height"] = np.clip(high, 0.01, 65)
        records["width"] = np.clip(records["width"] * records["height"] / was * change.width_by, 0.01, 65)
        over = records["over"] if change.over_m is None else np.full(len(records), change.over_m)
        records["over"] = over + change.raise_by_m
        if change.variant is not None:
            records["variant"] = VARIANTS.index(change.variant)
        words = _count(len(records), "Copied {}" if change.copied else "Changed {} by hand")
        outcome = _written(world, command, words, found, out)
    return {"ids": made, **outcome.public()}


def drop_plants(world: OpenWorld, command: DropPlants) -> Outcome:
    """Raises NotFound for an id."""
    with world.lock:
        found, out = _found(world, command.ids)
        # One that was sown is remembered as gone; one that was put by hand is not there any more.
        left = found.those(found.records["sown"])
        left.records["gone"] = True
        return _written(world, command, _count(len(found.records), "Took {} away"), left, out)


def settle_plants(world: OpenWorld, scope: Scope, command: SettlePlants) -> Outcome:
    """Raises NotFound for an id, Conflict when there is none to settle."""
    with world.lock:
        found, out = _touched(world, scope, command.ids)
        for at, name in enumerate(found.names):
            part = _part(world, *name)
            own = found.records["name"] == at
            deep = 0.0 if part is None else (part.sink_min_m + part.sink_max_m) / 2
            found.records["over"][own] = -deep * found.records["height"][own]
        return _written(world, command, _count(len(found.records), "Settled {}"), found, out)


def redress_plants(world: OpenWorld, scope: Scope, command: RedressPlants) -> Outcome:
    """Raises NotFound for an id, Conflict when there is none to re-dress."""
    with world.lock:
        found, out = _touched(world, scope, command.ids)
        # Those that were sown are worked out again; the others get what the mix says.
        stay = found.those(~found.records["sown"])
        for record in range(len(stay.records)):
            part = _part(world, *stay.names[int(stay.records["name"][record])])
            if part is None:
                continue
            draws = np.random.default_rng(int(stay.records["id"][record])).random(5)
            high = part.size_min + (part.size_max - part.size_min) * draws[0]
            stay.records["height"][record] = high
            stay.records["width"][record] = high * (part.width_min + (part.width_max - part.width_min) * draws[1])
            stay.records["turn"][record] = (part.turn_deg + part.turn_around_deg * (2 * draws[2] - 1)) % 360
            stay.records["tint"][record] = part.tint * draws[3]
            stay.records["tilt"][record] = part.tilt_deg * draws[4]
            stay.records["variant"][record] = 0
        return _written(world, command, _count(len(found.records), "Re-dressed {}"), stay, out)


def _count(count: int, words: str) -> str:
    return words.format("a plant" if count == 1 else f"{count:,} plants")


def _fresh(taken: set[int]) -> int:
    while (number := secrets.randbits(32)) in taken or number == 0:
        pass
    taken.add(number)
    return number


def _part(world: OpenWorld, mix: str, kind: str) -> Part | None:
    row = world.rows[MIXES.name].get(mix)
    return next((part for part in row.kinds if part.kind == kind), None) if isinstance(row, Mix) else None


def _tract_at(world: OpenWorld, x: float, y: float, first: str | None = None) -> str | None:
    """The tract that holds a place of the world, `first` if it does. [m]"""
    order: list[str] = [*([first] if first else []), *world.tracts]
    for tract_id in order:
        place, grid = world.place_of(tract_id), world.tract(tract_id).grid
        if grid.holds(x - place.x, y - place.y):
            return tract_id
    return None


def _home(world: OpenWorld, found: Touching) -> None:
    """Say in which tract each stands now. Raises InvalidInput when some stand in none."""
    places = zip(found.records["x"].tolist(), found.records["y"].tolist(), found.tracts, strict=True)
    homes = [_tract_at(world, x, y, before) for x, y, before in places]
    off = sum(home is None for home in homes)
    if off:
        words = f"{off} of {len(homes)} plants would come to stand outside of all tracts"
        raise InvalidInput(words, "change")
    found.tracts = [home for home in homes if home is not None]


def _written(world: OpenWorld, command: Command, words: str, found: Touching, out: Out) -> Outcome:
    said = HandWork(work=str(getattr(command, "do")), count=len(found.records))  # noqa: B009 (each says its own)
    moves: Moves = {}
    for tract_id in world.tracts:
        own = found.those(np.array([tract == tract_id for tract in found.tracts], bool))
        place = world.place_of(tract_id)
        own.records["x"] -= place.x
        own.records["y"] -= place.y
        moves |= kept(world, tract_id, own.records, own.names, out)
    return world.change_rows(said, words, moves)


def _standing(world: OpenWorld) -> Touching:
    """All that a hand has touched and not taken away, in the world's metres."""
    hand = hand_of(world)
    own = np.flatnonzero(~hand.plants["gone"])
    found = Touching(hand.plants[own].copy(), list(hand.names), [hand.tracts[t] for t in hand.tract[own].tolist()])
    for tract_id in set(found.tracts) & set(world.tracts):
        here = np.array([tract == tract_id for tract in found.tracts], bool)
        place = world.place_of(tract_id)
        found.records["x"][here] += place.x
        found.records["y"][here] += place.y
    return found


def _touched(world: OpenWorld, scope: Scope, ids: Sequence[str] | None) -> tuple[Touching, Out]:
    """Those of the ids, or all in some tracts, that a hand has touched."""
    found = _standing(world)
    if ids is None:
        found = found.those(np.array([tract in scope for tract in found.tracts], bool))
    else:
        wanted = set(ids)
        found = found.those(np.array([_id_of(record, found.names) in wanted for record in found.records], bool))
    if not len(found.records):
        raise Conflict("none of these plants was touched by hand: there is nothing to do")
    return found, _out(found)


def _id_of(record: Any, names: list[tuple[str, str]]) -> str:
    if not record["sown"]:
        return id_of("", "", (0, 0), 0, record["id"])
    return id_of(*names[int(record["name"])], (record["i"], record["j"]), record["number"])


def _out(found: Touching) -> Out:
    records = found.records
    sown = records[records["sown"]]
    codes = codes_of(sown["i"], sown["j"], sown["number"]).tolist()
    return {
        "hand": set(records["id"][~records["sown"]].tolist()),
        "sown": {(found.names[n], code) for n, code in zip(sown["name"].tolist(), codes, strict=True)},
    }


def _found(world: OpenWorld, ids: Iterable[str]) -> tuple[Touching, Out]:
    """The plants with these ids as they stand now, touched before or sown. Raises NotFound naming the first that is not
    there, InvalidInput for what is no id."""
    wanted = list(dict.fromkeys(ids))
    before = _standing(world)
    known = {_id_of(record, before.names): at for at, record in enumerate(before.records)}
    made = Touching(np.zeros(len(wanted), PLANT), list(before.names), [""] * len(wanted))
    sown: dict[tuple[str, int, int], list[tuple[int, str, int]]] = {}
    for at, one in enumerate(wanted):
        if one in known:
            made.records[at], made.tracts[at] = before.records[known[one]], before.tracts[known[one]]
        elif match := SOWN.fullmatch(one):
            mix, kind, i, j, number = match.groups()
            sown.setdefault((mix, int(i), int(j)), []).append((at, kind, int(number)))
        elif PUT.fullmatch(one):
            raise _gone(one)
        else:
            raise InvalidInput(f"{one!r} is no id of a plant", "ids")
    for (mix, i, j), some in sown.items():
        _fill(world, made, mix, (i, j), some, wanted)
    return made, _out(made)


def _gone(one: str) -> NotFound:
    return NotFound(f"there is no plant {one!r} in this world")


def _fill(
    world: OpenWorld, made: Touching, key: str, block: tuple[int, int], some: list[tuple[int, str, int]],
    wanted: list[str],
) -> None:  # fmt: skip
    """Records of sown plants of one block of a mix's pattern."""
    row = world.rows[MIXES.name].get(key)
    own = list(_of_block(world, key, row, block)) if isinstance(row, Mix) else []
    hand = hand_of(world)
    for at, kind, number in some:
        code = codes_of(np.array([block[0]]), np.array([block[1]]), np.array([number]))[0]
        # One that was touched is not where it was sown: it was taken away.
        there = [] if code in hand.codes((key, kind)) else [
            (land, plants, int(p))
            for land, of, plants in own if of == kind
            for p in np.flatnonzero(plants.number == number)
        ]  # fmt: skip
        if not there:
            raise _gone(wanted[at])
        land, plants, p = there[0]
        x, y = float(plants.x[p]) + land.origin[0], float(plants.y[p]) + land.origin[1]
        made.tracts[at] = _tract_at(world, x, y) or land.parts[0].tract.row.id
        made.records[at] = (
            0, made.name(key, kind), True, False, x, y, -plants.sink[p], plants.height[p], plants.width[p],
            plants.turn[p], plants.tilt[p], plants.tilt_to[p], plants.tint[p], 0, *block, number,
        )  # fmt: skip


def _of_block(world: OpenWorld, key: str, mix: Mix, block: tuple[int, int]) -> Iterator[tuple[Land, str, Plants]]:
    """The sown plants of a mix that stand in one block of its pattern, by land and kind, in the land's metres."""
    side = mix.pattern.block_m
    for land in world.lands():
        x0, y0 = block[0] * side - land.origin[0], block[1] * side - land.origin[1]
        window = land.clip(land.grid.window_of(x0, y0, x0 + side, y0 + side))
        if window.empty:
            continue
        for part, plants in zip(mix.kinds, sown_of(world, land, key, mix, window), strict=True):
            if plants is not None:
                inside = (plants.block[:, 0] == block[0]) & (plants.block[:, 1] == block[1])
                yield land, part.kind, plants.those(inside)
