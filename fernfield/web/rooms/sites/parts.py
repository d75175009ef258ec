"""Parts of a world: as a file, and taken from another world or from a file."""

from __future__ import annotations

from typing import Annotated

from fastapi import File, Query, Response, UploadFile
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from typing_extensions import TypedDict

from fernfield.core.errors import FormatError
from fernfield.formats.mesh import check_size
from fernfield.web.kernel.parts import TheStudio, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.uploads import upload
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.rows import Key
from fernfield.work.parts.rows import PARTS
from fernfield.work.parts.taking import Offset, PartFile, TakenPart, part_file, take_part
from fernfield.work.worlds.rows import ABOUT

router = Router(prefix="/api/worlds/{world}/parts/{key}", tags=["parts"])

every = Router(prefix="/api", tags=["parts"])

MOST_BYTES = 32 * 1024 * 1024
Looking = Annotated[bool, Query(description="only tell what it would come to")]


class Take(BaseModel):
    """A part of a world, taken with an offset; from this world itself it is a copy. [m]"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    from_world: Annotated[str, Field(max_length=40)]
    part: Key
    look: bool = False
    x: Offset = 0.0
    y: Offset = 0.0


@router.post("/take")
def take(key: Key, wanted: Take, world: TheWorld, studio: TheStudio) -> TakenPart:
    """Take a part of another world as the part of this key. What came with it before is changed, not doubled; what it
    names that is not here is listed, and done without. Nothing goes."""
    file = part_file(studio.world(wanted.from_world), wanted.part)
    return take_part(world, file, key, look=wanted.look, from_world=wanted.from_world, x=wanted.x, y=wanted.y)


@router.get("/file")
def as_file(key: Key, world: TheWorld, response: Response) -> PartFile:
    """A part as one JSON document: its rows in the metres of the world, and what they name besides."""
    response.headers["content-disposition"] = f'attachment; filename="{key}.part.json"'
    return part_file(world, key)


@every.post("/worlds/{world}/part-file")
def take_file(
    world: TheWorld, studio: TheStudio, file: Annotated[UploadFile, File()], look: Looking = False
) -> TakenPart:
    """Take such a document, as the part of the key that it has."""
    with upload(studio, file) as path:
        check_size(path, MOST_BYTES)
        document = _read(path.read_bytes())
    return take_part(world, document, document.key, look=look)


def _read(body: bytes) -> PartFile:
    try:
        return PartFile.model_validate_json(body)
    except ValidationError as error:
        words = refused(error.errors(), PartFile)[0].message
        raise FormatError(f"that is no part of a world: {words}") from error


class PartTold(TypedDict):
    """A part of a world that can be taken: of which world, its key, and words for both."""

    world: str
    part: str
    words: str


@every.get("/parts")
def parts(studio: TheStudio) -> list[PartTold]:
    """The parts of all worlds that can be taken."""
    return [
        {"world": world.id, "part": key, "words": f"{part.name}, of {world.only(ABOUT).name}"}
        for world in studio.worlds() for key, part in world.each(PARTS) if part.on
    ]  # fmt: skip
