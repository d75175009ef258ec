"""The web application: routers, pages, the socket, and the guard around them."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import datetime
from pathlib import Path

from fastapi import FastAPI, Response
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from jinja2 import ChoiceLoader, Environment, FileSystemLoader, select_autoescape
from starlette.exceptions import HTTPException
from starlette.types import Scope

from fernfield import __version__
from fernfield.web.kernel import jobs
from fernfield.web.kernel.forms import field_of, fields_of
from fernfield.web.kernel.guard import Guard
from fernfield.web.kernel.problems import install_problems
from fernfield.web.kernel.rows import rows_router
from fernfield.web.kernel.settings import Settings
from fernfield.web.page import live, logbook, pages, tracts
from fernfield.web.page.shortcuts import shortcuts
from fernfield.web.rooms import ROUTERS
from fernfield.work.studio import Studio

HERE = Path(__file__).parent


def _when(text: str) -> str:
    """A stored time as people read it, in the server's own time zone."""
    return datetime.fromisoformat(text).astimezone().strftime("%d %b %Y, %H:%M")


class Scripts(StaticFiles):
    """The scripts that lie beside the rooms' templates; nothing else of the rooms is served."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        if not path.endswith(".js"):
            raise HTTPException(404)
        return await super().get_response(path, scope)


def _templates() -> Jinja2Templates:
    loader = ChoiceLoader([FileSystemLoader(HERE / "templates"), FileSystemLoader(HERE / "rooms")])
    env = Environment(loader=loader, autoescape=select_autoescape(), trim_blocks=True, lstrip_blocks=True)
    env.filters["when"] = _when
    env.globals |= {"version": __version__, "fields_of": fields_of, "field_of": field_of}
    return Jinja2Templates(env=env)


def create_app(studio: Studio, settings: Settings | None = None) -> FastAPI:
    """The application on an open studio, which is closed when the application stops.

    Raises ValueError when two shortcuts clash.
    """
    settings = settings or Settings()
    shortcuts()

    @asynccontextmanager
    async def lifespan(_app: FastAPI) -> AsyncIterator[None]:
        yield
        studio.close()

    app = FastAPI(title="Fern Field", version=__version__, docs_url=None, redoc_url=None, lifespan=lifespan)
    app.state.studio = studio
    app.state.templates = _templates()
    install_problems(app)

    @app.get("/healthz", tags=["health"])
    def health() -> Response:
        return Response('{"status":"ok"}' if studio.healthy() else '{"status":"down"}', media_type="application/json")

    @app.get("/favicon.ico", include_in_schema=False)
    def mark() -> FileResponse:
        return FileResponse(HERE / "static" / "fern.svg", media_type="image/svg+xml")

    own = (logbook.router, tracts.router, jobs.router, jobs.cards, live.router, pages.router, pages.api)
    for router in (*ROUTERS, *own):
        app.include_router(router)
    for collection in studio.house.collections.values():
        if collection.plain:
            app.include_router(rows_router(collection))
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    app.mount("/rooms", Scripts(directory=HERE / "rooms"), name="rooms")
    local = settings.host in ("127.0.0.1", "localhost", "::1")
    app.add_middleware(Guard, upload_bytes=settings.upload_mib << 20, any_host=not local)
    return app
