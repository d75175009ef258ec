"""The bin: what lies in it, bringing it back, and deleting it for good."""

from __future__ import annotations

from typing_extensions import TypedDict

from fernfield.web.kernel.parts import TheStudio
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import AWorld, world_json

router = Router(prefix="/api/bin", tags=["layout"])


class Binned(TypedDict):
    id: str
    name: str
    binned_at: str | None


@router.get("")
def list_bin(studio: TheStudio) -> list[Binned]:
    return [{"id": row.id, "name": name, "binned_at": row.binned_at} for row, name in studio.bin()]


@router.post("/{world}/restore")
def restore(world: str, studio: TheStudio) -> AWorld:
    return world_json(studio.restore(world), studio)


@router.delete("/{world}", status_code=204)
def destroy(world: str, studio: TheStudio) -> None:
    """Delete a world that lies in the bin, for good."""
    studio.destroy(world)
