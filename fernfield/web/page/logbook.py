"""The logbook: revisions, keepsakes, where each one worked, and how far back it reaches."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Response

from fernfield.store.logbook import LogbookStore
from fernfield.web.kernel.parts import TheStudio, TheWorld, outcome_json
from fernfield.web.kernel.pictures import where_png
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Name, RevisionNumber

router = Router(prefix="/api/worlds/{world}", tags=["logbook"])


class Keepsake(Command):
    """A name that keeps a revision; none takes it away."""

    name: Name | None = None


@router.get("/revisions")
def revisions(
    world: TheWorld,
    studio: TheStudio,
    before: Annotated[RevisionNumber, Query(ge=1)] | None = None,
    most: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> list[dict[str, Any]]:
    return [
        {"number": r.number, "made_at": r.made_at, "sort": r.sort, "target": r.target, "words": r.words,
         "keepsake": r.keepsake, "by": r.by}
        for r in studio.store.revisions(world.id, before, most)
    ]  # fmt: skip


@router.get("/logbook")
def logbook(world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    """How far back the logbook reaches, how large it is, and how large it may become."""
    book = LogbookStore(studio.store.engine)
    return {"oldest": book.oldest(world.id), "bytes": book.size(world.id), "most_bytes": studio.logbook_bytes}


@router.put("/revisions/{number}/keepsake")
def keepsake(number: RevisionNumber, body: Keepsake, world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    LogbookStore(studio.store.engine).name(world.id, number, body.name)
    return {"number": number, "keepsake": body.name}


@router.get("/revisions/{number}/where.png", response_class=Response)
def where(
    number: RevisionNumber, world: TheWorld, studio: TheStudio, width: Annotated[int, Query(ge=16, le=512)] = 96
) -> Response:
    """A small picture of the first tract with what the revision changed marked on it."""
    return Response(where_png(studio, world, number, width), media_type="image/png")


@router.post("/undo")
def undo(world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.undo())


@router.post("/redo")
def redo(world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.redo())
