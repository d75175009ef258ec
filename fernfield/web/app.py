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

from fernfield import __version__
from fernfield.web import live, pages, setting_up
from fernfield.web.api import ROUTERS
from fernfield.web.guard import Guard
from fernfield.web.problems import install_problems
from fernfield.web.settings import Settings
from fernfield.work.studio import Studio

HERE = Path(__file__).parent


def _when(text: str) -> str:
    """A stored time as people read it, in the server's own time zone."""
    return datetime.fromisoformat(text).astimezone().strftime("%d %b %Y, %H:%M")


CHOICES = {
    "start": "where the stroke begins",
    "mean": "the mean under the brush",
    "both": "cut and fill",
    "cut": "cut only",
    "fill": "fill only",
    "path": "the drawn curve",
    "ends": "straight from end to end",
    "add": "add to the land",
    "highest": "the higher of both",
    "lowest": "the lower of both",
    "replace": "replace the land",
}
"""What the choices of settings are called on the page, where their names do not say it."""


def _words_of(choice: str) -> tuple[str, str]:
    return choice, CHOICES.get(choice, choice)


def create_app(studio: Studio, settings: Settings | None = None) -> FastAPI:
    """The application on an open studio, which is closed when the application stops."""
    settings = settings or Settings()

    @asynccontextmanager
    async def lifespan(_app: FastAPI) -> AsyncIterator[None]:
        yield
        studio.close()

    app = FastAPI(title="Fern Field", version=__version__, docs_url=None, redoc_url=None, lifespan=lifespan)
    app.state.studio = studio
    templates = Jinja2Templates(HERE / "templates")
    templates.env.filters["when"] = _when
    templates.env.filters["words_of"] = _words_of
    templates.env.globals["version"] = __version__
    app.state.templates = templates
    install_problems(app)

    @app.get("/healthz", tags=["health"])
    def health() -> Response:
        return Response('{"status":"ok"}' if studio.healthy() else '{"status":"down"}', media_type="application/json")

    @app.get("/favicon.ico", include_in_schema=False)
    def mark() -> FileResponse:
        return FileResponse(HERE / "static" / "fern.svg", media_type="image/svg+xml")

    for router in ROUTERS:
        app.include_router(router)
    app.include_router(live.router)
    app.include_router(pages.router)
    app.include_router(setting_up.router)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    local = settings.host in ("127.0.0.1", "localhost", "::1")
    app.add_middleware(Guard, upload_bytes=settings.upload_mib << 20, any_host=not local)
    return app
