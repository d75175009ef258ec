"""Work on the whole of a large tract, in a process of its own: how long it takes, and the most memory it needs."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

from fernfield.work.ground.commands import MakeLand, Reset, Weather
from fernfield.work.ground.rows import Landscape, Recipe
from fernfield.work.kernel.jobs import Job
from fernfield.work.studio import Studio
from fernfield.work.warm import warm_kernels
from fernfield.work.worlds.beginnings import WorldSpec

WAYS = ("land from a seed", "frost, 8 passes", "reset", "undo of it")


def resident(name: str = "VmRSS") -> int:
    """Memory of this process now, or the most it had (VmHWM). [bytes]"""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith(name):
            return int(line.split()[1]) << 10
    raise OSError(f"/proc/self/status has no {name}")


def main() -> None:
    """`whole.py folder side`: each way one after the other; prints seconds and bytes of each as JSON."""
    folder, side = Path(sys.argv[1]), int(sys.argv[2])
    warm_kernels()
    studio = Studio(folder)
    spec = WorldSpec(name="Whole", width_m=side - 1, depth_m=side - 1, spacing_m=1)
    world = studio.world(studio.create(spec))
    tract = world.first_tract.row.id
    recipe = Recipe(seed=7, landscapes=(Landscape(name="downs", patch_m=900),))

    def ended(job: Job) -> None:
        version = -1
        while not job.ended:
            version = job.wait(version, 1.0)
        if job.state != "done":
            raise RuntimeError(job.message)

    found = {}
    for way, do in zip(
        WAYS,
        (
            lambda: ended(studio.start_making(tract, MakeLand(key="l", name="Land", recipe=recipe))),
            lambda: ended(studio.start_weather(tract, Weather(kind="frost", passes=8, repose_deg=12))),
            lambda: studio.reset(tract, Reset(to="elevation", elevation_m=3.0)),
            lambda: world.undo(),
        ),
        strict=True,
    ):
        Path("/proc/self/clear_refs").write_text("5")
        before, began = resident(), time.perf_counter()
        do()
        found[way] = [time.perf_counter() - began, resident("VmHWM") - before]
    studio.close()
    sys.stdout.write(json.dumps(found))


if __name__ == "__main__":
    main()
