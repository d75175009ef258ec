"""A cairn on the highest post of each tract: `python docs/examples/cairns.py http://127.0.0.1:8127 "Sallow Reach"`."""

import sys

import numpy as np

from fernfield.client import Client
from fernfield.work.sites.rows import THINGS, Piece


def run(client: Client, name: str) -> list[str]:
    """The keys of what was placed."""
    world, keys = client.world(name), []
    for tract in world.tracts():
        heights = tract.heights()
        row, col = np.unravel_index(np.argmax(heights), heights.shape)
        x, y = float(col) * tract.spacing_m, float(tract.rows - 1 - row) * tract.spacing_m
        top = Piece(name=f"Top of {tract.name}", kit="cairn", x=x, y=y, tract=tract.id)
        keys.append(world.put(THINGS, top))
        print(f"{top.name}: {heights[row, col]:.1f} m at east {x:g}, north {y:g}")
    return keys


if __name__ == "__main__":
    with Client(sys.argv[1]) as client:
        run(client, sys.argv[2])
