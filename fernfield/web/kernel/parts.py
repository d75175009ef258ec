"""What the routers share: the studio, a world or tract by its id, and how outcomes and jobs are answered."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Path, Query, Request
from fastapi.responses import JSONResponse, Response
from typing_extensions import TypedDict

from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import RevisionNumber
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.studio import Studio


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


def _by_land(request: Request) -> bool:
    return request.url.path.startswith("/api/lands/")


ByLand = Annotated[bool, Depends(_by_land)]
"""Whether places are said in the world's metres (under /api/lands) instead of the tract's."""


def _land(
    by_land: ByLand,
    tract: Annotated[str, Path(max_length=40)],
    studio: TheStudio,
    at: Annotated[RevisionNumber | None, Query(description="a revision")] = None,
) -> tuple[OpenWorld, Land]:
    """What is seen of a world: with `at`, as it was after that revision.

    Under /api/tracts it is the land of a tract in the tract's own posts and metres; under /api/lands all open land on
    the tract's lattice, in the world's metres.
    """
    world = studio.tract(tract)[0]
    with world.lock:
        land = world.country(tract) if by_land else world.land_from(tract)
    if at is None:
        return world, land
    # As it was then, where it lies now: in the posts of today.
    past = studio.past(world.id, at)
    past.tract(tract)
    return past, land.as_in(past.tracts)


TheLand = Annotated[tuple[OpenWorld, Land], Depends(_land)]


def outcome_json(outcome: Outcome) -> Edited:
    return outcome.public()


class Keyed(Edited):
    """What an edit of a row came to, and the row's key."""

    key: str
    id: str


def keyed_json(key: str, outcome: Outcome) -> Keyed:
    """The outcome of an edit of a row."""
    return {"key": key, "id": key, **outcome.public()}


def page(request: Request, name: str, status: int = 200, **context: Any) -> Response:
    """A page, or a fragment of one."""
    made: Response = request.app.state.templates.TemplateResponse(request, name, context, status)
    return made


def from_page(request: Request) -> bool:
    """Whether htmx asks, and takes a fragment for an answer."""
    return "hx-request" in request.headers


class Begun(TypedDict):
    """Long work that was begun: ask for the job, or listen to its events."""

    job: str


JobAnswer = Annotated[Response, Begun]
"""What a script gets of `job_answer`."""


def job_answer(request: Request, job: Job, **also: Any) -> Response:
    """Long work was begun: its id for scripts, its card for pages."""
    if from_page(request):
        return page(request, "job.html", 202, job=job.public(), card=job.kind.card, **also)
    return JSONResponse({"job": job.id, **also}, 202)
