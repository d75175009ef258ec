"""Whether the application is up, for whoever watches over it."""

from __future__ import annotations

from typing_extensions import TypedDict

from fernfield.web.kernel.parts import TheStudio
from fernfield.web.kernel.routing import Router

router = Router(tags=["health"])


class Health(TypedDict):
    """Whether the store answers: "ok", or "down"."""

    status: str


@router.get("/healthz")
def health(studio: TheStudio) -> Health:
    return {"status": "ok" if studio.healthy() else "down"}
