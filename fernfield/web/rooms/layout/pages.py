"""The layout page."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import HTMLResponse, Response

from fernfield.web.kernel.parts import TheStudio, TheWorld, page
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import world_json
from fernfield.work.kernel.posts.tracts import TractPlace
from fernfield.work.worlds.tracts import TractSpec

router = Router(include_in_schema=False)


@router.get("/worlds/{world}/layout", response_class=HTMLResponse)
def layout(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    return page(
        request, "layout/layout.html", world=world_json(world, studio), TractPlace=TractPlace, TractSpec=TractSpec
    )
