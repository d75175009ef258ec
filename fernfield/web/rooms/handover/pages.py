"""What the checks find, as a part of the panel: the panel itself waits for none of them."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import HTMLResponse, Response

from fernfield.web.kernel.parts import TheStudio, TheWorld, page
from fernfield.web.kernel.routing import Router

router = Router(include_in_schema=False)
BENCHES = ("ground", "cover", "growth", "water", "light", "sites", "trial")
"""Where what is wrong without a place can be put right."""


@router.get("/worlds/{world}/findings", response_class=HTMLResponse)
def findings(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    found, looked = studio.findings_so_far(world.id)
    return page(request, "handover/findings.html", world=world.id, findings=found, looked=looked, benches=BENCHES)
