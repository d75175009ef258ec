"""The sun in whose light the shape of a piece of ground is seen best."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.light.relief import gradients

BEARINGS = range(0, 360, 5)
HEIGHTS = (6, 8, 10, 12, 15, 18, 22, 27, 33, 40)
"""Suns that are tried: clockwise from north, and above the horizon. [°]"""
MOST_POSTS = 20_000


def raking(heights: FloatArray, spacing: float) -> tuple[int, int]:
    """Bearing and height of the sun under which the brightness of the ground differs most.

    Brightness is the cosine between the ground and the sun, 0 where it is turned away, beside that of level ground;
    what differs most has the largest variance, and of suns that do as well the higher one is taken. On level ground
    none does better than the lowest.

    heights : shape (rows, cols), at least (2, 2) [m]; spacing : from post to post [m]
    """
    east, north = (plane.ravel() for plane in gradients(heights, spacing))
    every = max(1, east.size // MOST_POSTS)
    east, north = east[::every], north[::every]
    upright = 1 / np.sqrt(1 + east * east + north * north)
    turns = np.radians(np.array(BEARINGS, np.float32))
    # What a slope gets by its bearing, for all bearings at once.
    facing = -(np.sin(turns)[:, None] * (east * upright) + np.cos(turns)[:, None] * (north * upright))
    best, found = 1e-9, (315, HEIGHTS[0])
    for height in HEIGHTS:
        flat, up = np.cos(np.radians(height)), np.sin(np.radians(height))
        light = np.clip(facing * flat + upright * up, 0, None)
        # The darker the level ground, the more an eye opens.
        differs = light.var(axis=1) / (up + 0.25) ** 2
        k = int(np.argmax(differs))
        if differs[k] > best * 1.0001:
            best, found = float(differs[k]), (BEARINGS[k], height)
    return found
