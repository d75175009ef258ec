"""The Handover stage."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fernfield.store.worlds import WorldStore
from fernfield.work.handover.deliveries import DELIVERIES
from fernfield.work.handover.findings import ACCEPTED
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.rooms import House, Room
from fernfield.work.kernel.world import OpenWorld


def _hand_over(job: Job, house: House, store: WorldStore, world_id: str, folder: Path) -> dict[str, Any]:
    """Write the package of a world as it is now; the older ones go."""
    with store.reading() as snapshot:
        world = OpenWorld(house, store, world_id, snapshot)
        name = f"{world_id}-r{world.revision}.zip"
        write_package(world, folder / name, job.step, job.crew)
    store.set_package(world_id, world.revision, name)
    # Those of deliveries are kept by revision: their names say which they are of.
    for old in folder.glob(f"{world_id}-r*.zip"):
        if old.name != name and old.stem.removeprefix(f"{world_id}-r").isdigit():
            old.unlink(missing_ok=True)
    return {"revision": world.revision, "file": f"/api/worlds/{world_id}/handover.zip"}


HANDOVER = JobKind("handover", "Handing over", _hand_over, card="handover/job_handover.html")

ROOM = Room("handover", collections=(ACCEPTED, DELIVERIES))
