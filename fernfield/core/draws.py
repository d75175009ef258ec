"""Chance that is the same on every machine, in whatever order it is asked: numbers that follow from a key."""

from __future__ import annotations

import numpy as np

from fernfield.core.kernels import kernel


@kernel
def mixed(value: np.uint64) -> np.uint64:
    """The finaliser of SplitMix64 (Steele, Lea, Flood 2014, doi:10.1145/2660193.2660195)."""
    z = value
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@kernel
def unit(key: np.uint64, draw: int) -> float:
    """Draw number `draw` of a key's stream, 0 up to 1."""
    step = np.uint64(0x9E3779B97F4A7C15) * np.uint64(draw + 1)
    return float(mixed(key + step) >> np.uint64(40)) / 16777216.0


@kernel
def key_of(seed: int, lane: int, i: int, j: int) -> np.uint64:
    """The key of cell (i, j), for one of several uses."""
    cell = mixed(np.uint64(i) * np.uint64(0x632BE59BD9B4E019) + np.uint64(j) * np.uint64(0xD6E8FEB86659FD93))
    return mixed(np.uint64(seed) ^ cell ^ (np.uint64(lane + 1) * np.uint64(0x165667B19E3779F9)))
