"""The logbook: revisions, keepsakes, where each one worked, and how far back it reaches."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from typing_extensions import TypedDict

from fernfield.store.logbook import LogbookStore
from fernfield.web.kernel.parts import TheStudio, TheWorld, outcome_json
from fernfield.web.kernel.pictures import where_png
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Name, RevisionNumber
from fernfield.work.kernel.writing.ledger import Edited

router = Router(prefix="/api/worlds/{world}", tags=["logbook"])


class Keepsake(Command):
    """A name that keeps a revision; none takes it away."""

    name: Name | None = None


class Step(TypedDict):
    """A revision as the logbook has it; `target` is the one that it took back or made again."""

    number: int
    made_at: str
    sort: str
    target: int | None
    words: str
    keepsake: str | None
    by: str | None


class Reach(TypedDict):
    """How far back a logbook reaches, how large it is and may become. [bytes]"""

    oldest: int | None
    bytes: int
    most_bytes: int


class Kept(TypedDict):
    number: int
    keepsake: str | None


@router.get("/revisions")
def revisions(
    world: TheWorld,
    studio: TheStudio,
    before: Annotated[RevisionNumber, Query(ge=1)] | None = None,
    most: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> list[Step]:
    return [
        {"number": r.number, "made_at": r.made_at, "sort": r.sort, "target": r.target, "words": r.words,
         "keepsake": r.keepsake, "by": r.by}
        for r in studio.store.revisions(world.id, before, most)
    ]  # fmt: skip


@router.get("/logbook")
def logbook(world: TheWorld, studio: TheStudio) -> Reach:
    """How far back the logbook reaches, how large it is, and how large it may become."""
    book = LogbookStore(studio.store.engine)
    return {"oldest": book.oldest(world.id), "bytes": book.size(world.id), "most_bytes": studio.logbook_bytes}


@router.put("/revisions/{number}/keepsake")
def keepsake(number: RevisionNumber, body: Keepsake, world: TheWorld, studio: TheStudio) -> Kept:
    LogbookStore(studio.store.engine).name(world.id, number, body.name)
    return {"number": number, "keepsake": body.name}


@router.get("/revisions/{number}/where.png", response_class=Response)
def where(
    number: RevisionNumber, world: TheWorld, studio: TheStudio, width: Annotated[int, Query(ge=16, le=512)] = 96
) -> Response:
    """A small picture of the first tract with what the revision changed marked on it."""
    return Response(where_png(studio, world, number, width), media_type="image/png")


@router.post("/undo")
def undo(world: TheWorld) -> Edited:
    return outcome_json(world.undo())


@router.post("/redo")
def redo(world: TheWorld) -> Edited:
    return outcome_json(world.redo())
