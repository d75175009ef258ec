"""Elevation files in: sent, read, looked at, and placed as a world, as a tract, or into a plot."""

from __future__ import annotations

from typing import Annotated

from anyio import to_thread
from fastapi import File, Query, Request, Response, UploadFile

from fernfield.formats.elevation import READERS
from fernfield.web.kernel.parts import JobAnswer, TheStudio, job_answer
from fernfield.web.kernel.pictures import plain_png
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.uploads import form_of, waiting_file
from fernfield.work.ground.commands import PressFile
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Coordinate, Elevation, Name
from fernfield.work.kernel.says import Say
from fernfield.work.worlds.intake import LaidOut, Placing, Reading, SamplesTold, coarse, layout

router = Router(prefix="/api/files", tags=["files"])
imports = Router(prefix="/api/worlds", tags=["worlds"])
"""Before those of a world: "import" is none."""


class ImportForm(Reading, Placing):
    """An elevation file as a new world: how it is read, how it is placed, and what the world is called."""

    name: Name
    sea_level_m: Elevation = 0.0

    @property
    def reading(self) -> Reading:
        own = {name: getattr(self, name) for name in Reading.model_fields}
        # A surface has the spacing that it is sampled with.
        return Reading(**{**own, "sampled_m": self.sampled_m or self.spacing_m})

    @property
    def placing(self) -> Placing:
        return Placing(**{name: getattr(self, name) for name in Placing.model_fields})


class AsWorld(Command):
    name: Name
    sea_level_m: Annotated[Elevation, Say("Sea level", "m")] = 0.0
    placing: Placing = Placing()


class AsTract(Command):
    world: Annotated[str, Query(max_length=40)]
    name: Name
    x: Annotated[Coordinate, Say("West edge at", "m")] = 0.0
    y: Annotated[Coordinate, Say("South edge at", "m")] = 0.0
    placing: Placing = Placing()


class AsPress(PressFile):
    tract: Annotated[str, Query(max_length=40)]
    placing: Placing = Placing()


@router.get("/formats")
def formats() -> list[dict[str, str]]:
    return [{"name": reader.name, "words": reader.words} for reader in READERS]


@router.post("", status_code=202, openapi_extra=form_of(Reading))
async def send(
    request: Request,
    studio: TheStudio,
    file: Annotated[UploadFile, File()],
    into: Annotated[str | None, Query(max_length=40)] = None,
) -> JobAnswer:
    """Send a file; it waits under the id that comes back while the job reads it. Fields: those of `Reading`."""
    form = {k: v for k, v in (await request.form()).items() if k != "file" and v != ""}
    reading = Reading.model_validate(form)
    kept = await to_thread.run_sync(waiting_file, studio, file)
    return job_answer(request, studio.start_reading(kept, reading), file=kept.id, into=into)


class FileTold(SamplesTold):
    """A file that waits."""

    id: str
    name: str


class Previewed(LaidOut):
    """What placing makes of a file, and how low and high it goes. [m]"""

    lowest_m: float
    highest_m: float


@router.get("/{file}")
def get_file(file: str, studio: TheStudio) -> FileTold:
    """What a file holds that has been read: size, kind, lowest, highest, posts without elevation, a histogram."""
    found = studio.waiting.get(file)
    return {"id": found.id, "name": found.name, **found.read().public()}


@router.delete("/{file}", status_code=204)
def drop(file: str, studio: TheStudio) -> None:
    studio.waiting.get(file)
    studio.waiting.drop(file)


@router.post("/{file}/read", status_code=202)
def read_again(request: Request, file: str, reading: Reading, studio: TheStudio) -> JobAnswer:
    """Read a file anew, another way."""
    return job_answer(request, studio.start_reading(studio.waiting.get(file), reading), into=None)


@router.post("/{file}/preview")
def preview(file: str, placing: Placing, studio: TheStudio) -> Previewed:
    """What placing would make of a file: size, spacing, lowest and highest elevation."""
    samples = studio.waiting.get(file).read()
    plan = layout(samples, placing)
    heights, _ = coarse(samples, placing)
    return {**plan.facts, "lowest_m": float(heights.min()), "highest_m": float(heights.max())}


@router.get("/{file}/preview.png", response_class=Response)
def preview_png(
    file: str, studio: TheStudio, placing: Annotated[str, Query(max_length=2000)] = "{}", sea_level_m: Elevation = 0.0
) -> Response:
    """The land as it would come in, coarse; `placing` is the body of the other calls, as JSON."""
    heights, metres = coarse(studio.waiting.get(file).read(), Placing.model_validate_json(placing))
    return Response(plain_png(heights, metres, sea_level_m), media_type="image/png")


@router.post("/{file}/world", status_code=202)
def as_world(request: Request, file: str, body: AsWorld, studio: TheStudio) -> JobAnswer:
    """A new world from a file that waits; the job's result is {world}."""
    found = studio.waiting.get(file)
    layout(found.read(), body.placing)
    return job_answer(request, studio.start_import(found, body.name, Reading(), body.placing, body.sea_level_m))


@router.post("/{file}/tract", status_code=202)
def as_tract(request: Request, file: str, body: AsTract, studio: TheStudio) -> JobAnswer:
    """A new tract of a world from a file that waits; the job's result is {world, tract, revision}."""
    found = studio.waiting.get(file)
    layout(found.read(), body.placing)
    job = studio.start_tract_import(body.world, found, Reading(), body.placing, body.name, body.x, body.y)
    return job_answer(request, job)


@router.post("/{file}/press", status_code=202)
def press(request: Request, file: str, body: AsPress, studio: TheStudio) -> JobAnswer:
    """A file that waits, pressed into a plot or rectangle; the job's result is the outcome."""
    found = studio.waiting.get(file)
    layout(found.read(), body.placing)
    command = PressFile(**body.model_dump(exclude={"tract", "placing"}))
    return job_answer(request, studio.start_press(body.tract, found, Reading(), body.placing, command))


@imports.post("/import", status_code=202, openapi_extra=form_of(ImportForm))
async def import_world(request: Request, studio: TheStudio, file: Annotated[UploadFile, File()]) -> JobAnswer:
    """Make a world from an elevation file, read and placed as the other fields of the form say."""
    form = ImportForm.model_validate({k: v for k, v in (await request.form()).items() if k != "file" and v != ""})
    kept = await to_thread.run_sync(waiting_file, studio, file)
    return job_answer(request, studio.start_import(kept, form.name, form.reading, form.placing, form.sea_level_m))
