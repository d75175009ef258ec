"""How fair a round is: what each start comes to, and how far from alike that is."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel

NOBODY = 0
ALIKE = 100.0
"""The score of a start that has what all have on the mean."""
MOST = 2.0
"""Nothing counts as more than so many times as good as the mean, or as less than one so-manieth of it."""


def first_to_come(seconds: Sequence[FloatArray]) -> ByteArray:
    """Which of several comes to each post first: its number from 1; 0 where none does. The earlier wins a tie.

    seconds : how long it takes each to get to each post, all of one shape; infinite where it does not [s]
    """
    first = np.zeros(seconds[0].shape, np.uint8)
    best = np.full(seconds[0].shape, np.inf, np.float32)
    for number, one in enumerate(seconds, 1):
        _sooner(np.ascontiguousarray(one, np.float32).ravel(), best.ravel(), first.ravel(), number)
    return first


@kernel
def _sooner(took: FloatArray, best: FloatArray, first: ByteArray, number: int) -> None:
    for at in range(len(took)):
        if took[at] < best[at]:
            best[at] = took[at]
            first[at] = number


def counted_within(took: FloatArray, limits: Sequence[float]) -> list[int]:
    """How many posts are come to within each of some times. [s]"""
    found = _within(np.ascontiguousarray(took, np.float32).ravel(), np.array(limits))
    return [int(one) for one in found]


@kernel
def _within(took: FloatArray, limits: NDArray[np.float64]) -> NDArray[np.int64]:
    found = np.zeros(len(limits), np.int64)
    for at in range(len(took)):
        for k in range(len(limits)):
            if took[at] <= limits[k]:
                found[k] += 1
    return found


@dataclass(frozen=True, slots=True)
class Told:
    """How a start stands in one thing: what it has, the mean of all, and how good that is beside it (1: as good)."""

    of: str
    value: float
    mean: float
    good: float


def compared(of: str, values: Sequence[float], *, less_is_better: bool) -> list[Told]:
    """How each of several stands in one thing. Infinite: it is not to be had, and as bad as can be."""
    known = [one for one in values if math.isfinite(one)]
    mean = float(np.mean(known)) if known else math.inf
    found = []
    for value in values:
        if not known or (mean == 0 and value == 0):
            good = 1.0
        elif not math.isfinite(value):
            good = 1 / MOST
        else:
            parts = (mean, value) if less_is_better else (value, mean)
            good = min(MOST, max(1 / MOST, parts[0] / parts[1])) if parts[1] > 0 else MOST
        found.append(Told(of, value, mean, good))
    return found


def scores(things: Mapping[str, Sequence[Told]], weights: Mapping[str, float]) -> NDArray[np.float64]:
    """A score for each start: the mean of how good it stands in all things, by their weights, geometrically; as the
    mean of all: 100. A thing is weighted by what it begins with, up to a colon."""
    total = sum(weights[name.partition(":")[0]] for name in things)
    if not things or total <= 0:
        return np.full(len(next(iter(things.values()), ())), ALIKE)
    logs = sum(weights[name.partition(":")[0]] * np.log([one.good for one in every]) for name, every in things.items())
    return np.asarray(ALIKE * np.exp(logs / total), np.float64)


def worst(things: Mapping[str, Sequence[Told]], weights: Mapping[str, float], number: int) -> tuple[str, Told] | None:
    """In what a start stands worst, by its weight; None where it stands as well as the mean in all."""
    sides = [(weights[name.partition(":")[0]] * math.log(every[number].good), name) for name, every in things.items()]
    least, name = min(sides, default=(0.0, ""))
    return (name, things[name][number]) if least < 0 else None
