"""A world as one file: written, and opened where it is not yet."""

from __future__ import annotations

import secrets
from typing import Annotated, Any

from fastapi import BackgroundTasks, File, Query, UploadFile
from fastapi.responses import FileResponse

from fernfield.web.kernel.parts import TheStudio, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.uploads import upload
from fernfield.web.kernel.worlds import AWorld, world_json

router = Router(prefix="/api/worlds", tags=["handover"])
"""Before those of a world: its id has no dot, and "open" is none."""
FORM = {"type": "object", "properties": {"file": {"type": "string", "format": "binary"}}, "required": ["file"]}


@router.get("/{world}.fern", response_class=FileResponse)
def world_file(
    world: TheWorld, studio: TheStudio, after: BackgroundTasks,
    logbook: Annotated[bool, Query(description="with all that was done, to be undone")] = True,
) -> FileResponse:  # fmt: skip
    """A world with its logbook, pictures and models as one file (a SQLite database of its tables), as of one moment."""
    path = studio.data / "incoming" / f"{secrets.token_hex(8)}.fern"
    after.add_task(path.unlink, missing_ok=True)
    studio.write_world(world.id, path, logbook=logbook)
    return FileResponse(path, media_type="application/vnd.sqlite3", filename=f"{world.id}-r{world.revision}.fern")


@router.post(
    "/open",
    status_code=201,
    openapi_extra={"requestBody": {"required": True, "content": {"multipart/form-data": {"schema": FORM}}}},
)
def open_world(studio: TheStudio, file: Annotated[UploadFile, File()]) -> AWorld:
    """Take in a world that came as one file, under the id that it has; 409 where it is here already."""
    with upload(studio, file) as path:
        world = studio.read_world(path)
    with world.lock:
        found: dict[str, Any] = world_json(world, studio)
    return found
