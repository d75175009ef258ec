"""The web application: routers, pages, the socket, and the guard around them."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import datetime
from functools import partial
from pathlib import Path

from anyio import CapacityLimiter, to_thread
from fastapi import FastAPI, Response, params
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from jinja2 import ChoiceLoader, Environment, FileSystemLoader, select_autoescape
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import DEFAULT_EXCLUDED_CONTENT_TYPES, GZipMiddleware
from starlette.types import Scope

from fernfield import __version__
from fernfield.web.kernel import health, jobs
from fernfield.web.kernel.answers import described
from fernfield.web.kernel.assets import at, import_map
from fernfield.web.kernel.drawn import DrawnTiles
from fernfield.web.kernel.forms import field_of, fields_of
from fernfield.web.kernel.gate.access import Access, is_here
from fernfield.web.kernel.gate.guard import Guard
from fernfield.web.kernel.gate.problems import install_problems, unexpected
from fernfield.web.kernel.gate.turns import Turns
from fernfield.web.kernel.routing import LateRoute
from fernfield.web.kernel.rows import rows_router
from fernfield.web.kernel.settings import Settings
from fernfield.web.kernel.watch import Watch
from fernfield.web.page import help, lighting, live, logbook, pages, signing, tracts, welcome
from fernfield.web.page.post import Post
from fernfield.web.page.schemas import schemas_router
from fernfield.web.page.shortcuts import shortcuts
from fernfield.web.rooms import ROUTERS
from fernfield.work.house import HOUSE
from fernfield.work.studio import Studio

ANSWERS_AT_ONCE = 64
HANDS_AT_ONCE = 64
"""Threads that serve answers, and the sockets."""

SENT_AS_THEY_ARE = (*DEFAULT_EXCLUDED_CONTENT_TYPES, "application/octet-stream", "text/plain", "text/csv")
"""Land and lists may be very large, and who asks for them is mostly on this machine; pages and scripts are packed."""

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
    env.globals |= {
        "version": __version__,
        "fields_of": fields_of,
        "field_of": field_of,
        "at": at(),
        "import_map": import_map(),
    }
    return Jinja2Templates(env=env)


def create_app(studio: Studio, settings: Settings | None = None, demo: welcome.Builder | None = None) -> FastAPI:
    """The application on an open studio, which is closed when the application stops; `demo` makes the demo world.

    Raises ValueError when two shortcuts clash.
    """
    settings = settings or Settings()
    shortcuts()

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        to_thread.current_default_thread_limiter().total_tokens = ANSWERS_AT_ONCE
        # The hands of open pages have threads of their own: a stroke's end never waits behind edits or answers.
        app.state.hands = CapacityLimiter(HANDS_AT_ONCE)
        app.state.post = Post(asyncio.get_running_loop())
        yield
        studio.close()

    app = FastAPI(title="Fern Field", version=__version__, docs_url=None, redoc_url=None, lifespan=lifespan)
    app.openapi = partial(described, app)  # type: ignore[method-assign]
    app.state.studio, app.state.demo = studio, demo
    app.state.templates = _templates()
    app.state.access = access = Access(studio.data, settings.phrase, settings.look_phrase)
    app.state.watch = watch = Watch(studio)
    app.state.drawn = DrawnTiles()
    # How many of how many steps of compiling are done, while tools are compiled for the first time on a machine.
    app.state.compiling = None
    app.state.room = lambda: studio.room()
    install_problems(app)

    @app.get("/favicon.ico", include_in_schema=False)
    def mark() -> FileResponse:
        return FileResponse(HERE / "static" / "fern.svg", media_type="image/svg+xml")

    @app.get("/metrics", include_in_schema=False)
    def metrics() -> Response:
        return Response(watch.text(), media_type="text/plain; version=0.0.4; charset=utf-8")

    own = (
        health.router,
        signing.router,
        help.router,
        welcome.router,
        logbook.router,
        tracts.router,
        lighting.worlds,
        jobs.router,
        jobs.cards,
        live.router,
        pages.router,
        pages.api,
    )
    rows = (rows_router(collection) for collection in studio.house.collections.values() if collection.plain)
    schemas = schemas_router(studio.house.collections.values())
    # The routes as they are: to include a router is to make each of them once more, which takes a second in all.
    for router in (*ROUTERS, *own, *rows, schemas):
        app.router.routes.extend(router.routes)
    for below in (at(), ""):
        app.mount(f"{below}/static", StaticFiles(directory=HERE / "static"))
        app.mount(f"{below}/rooms", Scripts(directory=HERE / "rooms"))
    app.add_middleware(GZipMiddleware, compresslevel=5, exclude_content_types=SENT_AS_THEY_ARE)
    app.add_middleware(Turns)
    app.add_middleware(
        Guard, access=access, upload_bytes=settings.upload_mib << 20, elsewhere=not is_here(settings.host),
        names=[name.strip() for name in settings.names.split(",") if name.strip()], takes_files=takes_files,
        fault=unexpected, room=app.state.room, told=watch.asked,
    )  # fmt: skip
    return app


def takes_files(scope: Scope) -> bool:
    """Whether the call that is meant takes files."""
    rows = (rows_router(collection) for collection in HOUSE.collections.values() if collection.plain)
    routes = (route for router in (*ROUTERS, *rows) for route in router.routes if isinstance(route, LateRoute))
    meant = (one for one in routes if scope["method"] in one.methods and one.path_regex.match(scope["path"]))
    return any(map(_takes_files, meant))


def _takes_files(route: LateRoute) -> bool:
    """Whether a call has a field for a file, or describes its form by itself."""
    described = (route.openapi_extra or {}).get("requestBody", {}).get("content", {})
    fields = (field.field_info for field in route.dependant.body_params)
    return "multipart/form-data" in described or any(isinstance(info, params.File) for info in fields)
