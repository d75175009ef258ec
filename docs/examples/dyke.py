"""A dyke along each kept line: `python docs/examples/dyke.py http://127.0.0.1:8127 "Sallow Reach"`."""

import itertools
import math
import sys

from fernfield.client import Client
from fernfield.work.kernel.commands import PathPoint
from fernfield.work.plots.rows import LINES
from fernfield.work.strokes import Stroke

WIDE_M, M_A_SECOND, SURE = 6.0, 4.0, 1.0


def path_of(points: list[tuple[float, float]]) -> list[PathPoint]:
    """A place every metre, with the second at which a hand that goes at one pace comes by: between places that lie far
    apart a stroke swings as a hand does."""
    path: list[PathPoint] = []
    gone = 0.0
    for (x0, y0), (x1, y1) in itertools.pairwise(points):
        far = math.dist((x0, y0), (x1, y1))
        for step in range(math.ceil(far)):
            part = step / math.ceil(far)
            path.append((x0 + part * (x1 - x0), y0 + part * (y1 - y0), (gone + part * far) / M_A_SECOND, SURE))
        gone += far
    return [*path, (*points[-1], gone / M_A_SECOND, SURE)]


def run(client: Client, name: str) -> float:
    """The earth that was brought. [m³]"""
    world, brought = client.world(name), 0.0
    tracts = {tract.id: tract for tract in world.tracts()}
    for line in world.rows(LINES).values():
        tract = tracts[line.tract] if line.tract else next(iter(tracts.values()))
        stroke = Stroke(tool="raise", radius_m=WIDE_M, softness=0.6, strength=2, path=path_of([*line.points]))
        outcome = tract.stroke(stroke, hear=lambda share, words: print(f"{share:4.0%} {words}"))
        brought += outcome["fill_m3"]
        print(f"{line.name}: {outcome['fill_m3']:,.0f} m³")
    return brought


if __name__ == "__main__":
    with Client(sys.argv[1]) as client:
        run(client, sys.argv[2])
