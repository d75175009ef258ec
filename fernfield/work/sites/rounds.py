"""Rounds: of a group of candidate places each round of play has so many, drawn by its seed."""

from __future__ import annotations

from typing_extensions import TypedDict

from fernfield.core.sites.scatter import drawn_in
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.groups import GROUPS
from fernfield.work.sites.rows import THINGS


class Drawn(TypedDict):
    """What a round has of a group of candidate places: of how many, which, and the chance of each."""

    group: str
    name: str
    of: int
    draws: int
    chance: float
    things: list[str]
    left_out: list[str]


class Round(TypedDict):
    """One round: its seed, and which candidate places it has."""

    seed: int
    groups: list[Drawn]
    left_out: list[str]


def round_of(world: OpenWorld, seed: int) -> Round:
    """Which candidate places a round has. Hold the lock."""
    by: dict[str, list[str]] = {}
    for key, thing in world.rows[THINGS.name].items():
        group = getattr(thing, "group", None)
        if group is not None:
            by.setdefault(group, []).append(key)
    found: list[Drawn] = []
    for key, group in world.each(GROUPS):
        if group.draws is None:
            continue
        keys = sorted(by.get(key, ()))
        drawn = drawn_in(seed, keys, key, group.draws)
        count = min(group.draws, len(keys))
        found.append({
            "group": key, "name": group.name, "of": len(keys), "draws": count,
            "chance": round(count / len(keys), 6) if keys else 0.0, "things": sorted(drawn),
            "left_out": [one for one in keys if one not in drawn],
        })  # fmt: skip
    return {"seed": seed, "groups": found, "left_out": sorted(key for one in found for key in one["left_out"])}
