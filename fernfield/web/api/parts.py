"""What the routers share: the studio, and worlds as they are shown."""

from __future__ import annotations

import os
import secrets
from pathlib import Path as FilePath
from typing import Annotated, Any

from fastapi import Depends, Path, Request, UploadFile

from fernfield.work.entries import BOOKS
from fernfield.work.intake import Incoming
from fernfield.work.studio import Studio
from fernfield.work.world import OpenWorld, Outcome, Tract


def _studio(request: Request) -> Studio:
    studio: Studio = request.app.state.studio
    return studio


TheStudio = Annotated[Studio, Depends(_studio)]


def _world(world: Annotated[str, Path(max_length=40)], studio: TheStudio) -> OpenWorld:
    return studio.world(world)


TheWorld = Annotated[OpenWorld, Depends(_world)]


def _tract(tract: Annotated[str, Path(max_length=40)], studio: TheStudio) -> tuple[OpenWorld, Tract]:
    return studio.tract(tract)


TheTract = Annotated[tuple[OpenWorld, Tract], Depends(_tract)]


def world_json(world: OpenWorld, studio: Studio) -> dict[str, Any]:
    """A world as the API shows it."""
    return {
        "id": world.id,
        "name": world.name,
        "revision": world.revision,
        "changed_at": studio.changed_at(world.id),
        "description": world.about.description,
        "icon": f"/api/worlds/{world.id}/icon.png" if "world" in world.rows["icon"] else None,
        "sea_level_m": world.sea_level_m,
        "sun_bearing_deg": world.light.sun_bearing_deg,
        "sun_height_deg": world.light.sun_height_deg,
        "can_undo": world.can_undo,
        "can_redo": world.can_redo,
        "tracts": [
            {
                "id": tract.row.id,
                **world.place_of(tract.row.id).model_dump(exclude={"position"}),
                "rows": tract.grid.rows,
                "cols": tract.grid.cols,
                "spacing_m": tract.grid.spacing,
            }
            for tract in world.tracts.values()
        ],
        "covers": [{"key": key, **cover.model_dump()} for key, cover in world.covers()],
        "mixes": [{"key": key, **mix.model_dump()} for key, mix in world.mixes()],
        "sheets": [{"key": key, **sheet.model_dump()} for key, sheet in world.sheets()],
        "symmetry": world.symmetry.model_dump(),
        "limits": world.limits.model_dump(),
        "joins": [{"key": key, **join.model_dump()} for key, join in world.joins()],
        **{book: [{"key": key, **row.model_dump()} for key, row in sorted(world.rows[book].items())] for book in BOOKS},
    }


def kept_upload(studio: Studio, file: UploadFile) -> FilePath:
    """An upload, on the disk."""
    path = studio.data / "incoming" / secrets.token_hex(8)
    with path.open("wb") as out:
        while chunk := file.file.read(1 << 20):
            out.write(chunk)
        out.flush()
        os.fsync(out.fileno())
    return path


def waiting_file(studio: Studio, file: UploadFile) -> Incoming:
    """An upload that waits to be read and placed."""
    return studio.waiting.add(kept_upload(studio, file), file.filename or "file")


def outcome_json(outcome: Outcome) -> dict[str, Any]:
    return {
        "revision": outcome.revision,
        "window": outcome.window.as_list(),
        "cut_m3": outcome.cut_m3,
        "fill_m3": outcome.fill_m3,
    }
