"""Plants that a hand has touched, kept by patches: put by hand, moved, changed or taken away.

What was sown is worked out from its seed; a plant of it that was touched is kept here as it is now, with its place in
its mix's pattern, so that it is not worked out a second time. It keeps its height over the ground, whatever becomes of
its mix and of the land.
"""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.formats.plantblob import PATCH_M, PLANT, Plants, decode_plants, encode_plants
from fernfield.work.kernel.declared import Lies
from fernfield.work.kernel.rows import Collection, Key, Moves, Row
from fernfield.work.kernel.says import UNASKED
from fernfield.work.kernel.world import OpenWorld

MOST_PATCHES = 20_000
MOST_IN_PATCH = 65_535
Place = Annotated[float, Field(ge=-1e6, le=1e6)]


class Touched(Row):
    """Collection "touched-plants": those of one patch of a tract. x0, y0 : its south-west corner in the tract [m]

    names : "mix/kind" of its plants; count, packed : how many, and themselves (`formats.plantblob`)
    """

    tract: Annotated[Key | None, UNASKED] = None
    x0: Annotated[Place, Lies("west"), UNASKED]
    y0: Annotated[Place, Lies("south"), UNASKED]
    names: Annotated[tuple[str, ...], UNASKED] = ()
    count: Annotated[int, Field(ge=0, le=MOST_IN_PATCH), UNASKED] = 0
    packed: Annotated[str, UNASKED] = ""

    @model_validator(mode="after")
    def _can_be_read(self) -> Touched:
        plants = unpacked(self.packed, self.count)
        if len(plants) and int(plants["name"].max()) >= len(self.names):
            raise ValueError(f"a plant has name {int(plants['name'].max())} of {len(self.names)}")
        return self


@lru_cache(maxsize=8_192)
def unpacked(packed: str, count: int) -> Plants:
    """The plants of a patch; not to be written to."""
    plants = decode_plants(packed, count) if count else np.zeros(0, PLANT)
    plants.setflags(write=False)
    return plants


def _seen(row: Touched) -> tuple[str, float, float, float, float]:
    tract = row.tract or ""
    return tract, row.x0, row.y0, row.x0 + PATCH_M, row.y0 + PATCH_M


TOUCHED = Collection(
    "touched-plants", Touched, "patch of plants", in_tract=True, told=False, plain=False, most=MOST_PATCHES,
    stays=True, seen=_seen,
)  # fmt: skip


@dataclass(frozen=True)
class Hand:
    """All plants of a world that were touched: x, y in their tract's metres, `name` in `names`, `tract` in `tracts`."""

    plants: Plants
    tract: NDArray[np.int32]
    names: list[tuple[str, str]]
    tracts: list[str]

    def codes(self, name: tuple[str, str]) -> NDArray[np.int64]:
        """The places in their pattern of those that were sown, of one mix and kind."""
        if name not in self.names:
            return np.zeros(0, np.int64)
        own = self.plants[(self.plants["name"] == self.names.index(name)) & self.plants["sown"]]
        return codes_of(own["i"], own["j"], own["number"])


def codes_of(i: NDArray[np.int32], j: NDArray[np.int32], number: NDArray[np.int32]) -> NDArray[np.int64]:
    """A number for each place in a pattern."""
    return (i.astype(np.int64) << 40) ^ ((j.astype(np.int64) & 0xFFFFF) << 20) ^ number.astype(np.int64)


_NOTHING = Hand(np.zeros(0, PLANT), np.zeros(0, np.int32), [], [])
_KNOWN: OrderedDict[str, tuple[tuple[int, ...], list[Row], Hand]] = OrderedDict()
_LOCK = threading.Lock()


def hand_of(world: OpenWorld) -> Hand:
    """All plants of a world that were touched."""
    rows = list(world.rows[TOUCHED.name].values())
    if not rows:
        return _NOTHING
    mark = tuple(map(id, rows))
    with _LOCK:
        known = _KNOWN.get(world.id)
        if known is not None and known[0] == mark:
            return known[2]
    hand = _gathered(rows)
    with _LOCK:
        # The rows are kept with it: their marks are theirs as long as they are there.
        _KNOWN[world.id] = mark, rows, hand
        while len(_KNOWN) > 8:
            _KNOWN.popitem(last=False)
    return hand


def _gathered(rows: list[Row]) -> Hand:
    names: dict[tuple[str, str], int] = {}
    tracts: dict[str, int] = {}
    parts, where = [], []
    for row in rows:
        assert isinstance(row, Touched)
        plants = unpacked(row.packed, row.count).copy()
        own = [names.setdefault(split(name), len(names)) for name in row.names]
        plants["name"] = np.array(own or [0], np.int32)[plants["name"]]
        plants["x"] += row.x0
        plants["y"] += row.y0
        parts.append(plants)
        where.append(np.full(len(plants), tracts.setdefault(row.tract or "", len(tracts)), np.int32))
    return Hand(np.concatenate(parts), np.concatenate(where), list(names), list(tracts))


def split(name: str) -> tuple[str, str]:
    """ "mix/kind" as two."""
    mix, _, kind = name.partition("/")
    return mix, kind


def kept(
    world: OpenWorld, tract_id: str, put: Plants, names: list[tuple[str, str]], ids: Mapping[str, set[object]]
) -> Moves:
    """The rows that change when plants of one tract are put, and others (or their earlier states) are taken out.

    put : x, y in the tract's metres, `name` in `names`; ids : which to take out: "hand" by id, "sown" by code and name
    """
    own = {
        (round(row.x0, 3), round(row.y0, 3)): (key, row)
        for key, row in world.each(TOUCHED) if row.tract == tract_id
    }  # fmt: skip
    # Patches lie on one lattice, which may have been shifted with the tract.
    base_x, base_y = next(((x % PATCH_M, y % PATCH_M) for x, y in own), (0.0, 0.0))
    bases = np.array([base_x, base_y])
    corners = np.floor((np.stack([put["x"], put["y"]], axis=1) - bases) / PATCH_M) * PATCH_M + bases
    wanted: dict[tuple[float, float], list[int]] = {}
    for at, (x, y) in enumerate(corners.tolist()):
        wanted.setdefault((round(x, 3), round(y, 3)), []).append(at)
    moves: Moves = {}
    for corner in {*wanted, *own}:
        key, row = own.get(corner, (None, None))
        plants = unpacked(row.packed, row.count) if row is not None else np.zeros(0, PLANT)
        called = [split(name) for name in row.names] if row is not None else []
        stays = _staying(plants, called, ids)
        new = put[wanted.get(corner, [])].copy()
        if row is not None and stays.all() and not len(new):
            continue
        new["x"] -= corner[0]
        new["y"] -= corner[1]
        for name in {names[n] for n in new["name"].tolist()} - set(called):
            called.append(name)
        new["name"] = [called.index(names[n]) for n in new["name"].tolist()]
        every = np.concatenate([plants[stays], new])
        if len(every) > MOST_IN_PATCH:
            words = f"at most {MOST_IN_PATCH:,} plants that a hand has touched fit on {PATCH_M:g} by {PATCH_M:g} m"
            raise InvalidInput(f"{words}, not {len(every):,}")
        made = Touched(
            tract=tract_id, x0=corner[0], y0=corner[1], names=tuple(f"{mix}/{kind}" for mix, kind in called),
            count=len(every), packed=encode_plants(every),
        )  # fmt: skip
        moves[TOUCHED.name, key or f"{tract_id}-{_number(corner[0])}-{_number(corner[1])}"] = made
    return moves


def _number(value: float) -> str:
    """A number as a part of a key."""
    whole = math.floor(value)
    return f"m{-whole}" if whole < 0 else str(whole)


def _staying(plants: Plants, called: list[tuple[str, str]], ids: Mapping[str, set[object]]) -> NDArray[np.bool_]:
    stays = np.ones(len(plants), bool)
    if not len(plants):
        return stays
    by_hand, sown = ids.get("hand", set()), ids.get("sown", set())
    codes = codes_of(plants["i"], plants["j"], plants["number"]).tolist()
    for at, (one, was_sown, name, code) in enumerate(
        zip(plants["id"].tolist(), plants["sown"].tolist(), plants["name"].tolist(), codes, strict=True)
    ):
        stays[at] = (called[name], code) not in sown if was_sown else one not in by_hand
    return stays
