"""What growth costs a machine that draws it: instances, triangles, memory and draw calls, beside what it bears."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

INSTANCE_BYTES = 80
"""Of one drawn plant: a matrix of 4 x 4 numbers, a colour."""
CORNER_BYTES = 44
"""Of one corner of a triangle, as shapes are handed to the page."""


@dataclass(frozen=True, slots=True)
class Machine:
    """A machine that a world is made for, and what of its growth it bears (our own figures, to be changed by need).

    instances, triangles, calls : drawn at once; memory_mib : for growth
    """

    name: str
    label: str
    instances: int
    triangles: int
    memory_mib: float
    calls: int


MACHINES: dict[str, Machine] = {
    machine.name: machine
    for machine in (
        Machine("hand", "Held in the hand", 4_000, 300_000, 32, 40),
        Machine("modest", "A modest desk", 20_000, 1_500_000, 128, 120),
        Machine("strong", "A strong desk", 120_000, 8_000_000, 512, 400),
    )
}


@dataclass(frozen=True, slots=True)
class Drawn:
    """Plants of one kind that are drawn at one detail: how many, and the triangles of each."""

    kind: str
    detail: int
    count: float
    triangles: int


@dataclass(frozen=True, slots=True)
class Load:
    instances: int
    triangles: int
    memory_mib: float
    calls: int

    def shares(self, machine: Machine) -> dict[str, float]:
        """How much of what a machine bears each takes; above 1 it is too much."""
        return {
            "instances": self.instances / machine.instances, "triangles": self.triangles / machine.triangles,
            "memory": self.memory_mib / machine.memory_mib, "calls": self.calls / machine.calls,
        }  # fmt: skip


def load(drawn: Sequence[Drawn]) -> Load:
    """The load of plants that are drawn at once."""
    there = [one for one in drawn if one.count >= 0.5]
    shapes = {(one.kind, one.detail): one.triangles for one in there}
    count = sum(one.count for one in there)
    size = count * INSTANCE_BYTES + sum(shapes.values()) * 3 * CORNER_BYTES
    return Load(
        round(count), round(sum(one.count * one.triangles for one in there)), round(size / 2**20, 3), len(shapes)
    )
