"""The one place that turns errors into answers: problem+json (RFC 9457) for scripts, a page for people."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic import ValidationError
from starlette.exceptions import HTTPException
from starlette.responses import Response

from fernfield.core.errors import (
    Busy,
    Cancelled,
    Choice,
    Conflict,
    FernError,
    InvalidInput,
    NoRoom,
    NotFound,
    StorageError,
)
from fernfield.work.kernel.faults import meaning, noted
from fernfield.work.kernel.refused import refused

STATUS: tuple[tuple[type[FernError], int], ...] = (
    (InvalidInput, 422),
    (NotFound, 404),
    (Conflict, 409),
    (Choice, 409),
    (Cancelled, 409),
    (Busy, 429),
    (NoRoom, 507),
    (StorageError, 503),
)


def status_of(error: FernError) -> int:
    return next((status for kind, status in STATUS if isinstance(error, kind)), 400)


def field_errors(errors: Sequence[Any], model: Any = None) -> list[dict[str, str]]:
    """One entry for each bad field: its place, what people call it, and a sentence with what is allowed and came."""
    return [asdict(one) for one in refused(errors, model)]


def _asked_wrong(request: Request, error: RequestValidationError) -> list[dict[str, str]]:
    """As `field_errors`, for what a call was asked with: each value came from its body, path or query."""
    known = getattr(request.scope.get("route"), "dependant", None)
    found = []
    for one in error.errors():
        source, *place = one["loc"] or ("",)
        if source not in ("body", "query", "path", "header", "cookie"):
            source, place = "", list(one["loc"])
        bodies = [] if known is None else known.body_params
        model = bodies[0].field_info.annotation if source == "body" and len(bodies) == 1 else None
        found += field_errors([{**one, "loc": tuple(place)}], model)
    return found


def sentences(errors: Sequence[Mapping[str, str]]) -> str:
    """What is wrong, for people: the first few of it."""
    return "; ".join(error["message"] for error in errors[:5])


def problem(
    status: int, detail: str, errors: Sequence[dict[str, str]] = (), more: Mapping[str, Any] | None = None
) -> JSONResponse:
    body: dict[str, Any] = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": detail,
    }
    if errors:
        body["errors"] = list(errors)
    body |= more or {}
    return JSONResponse(body, status, media_type="application/problem+json")


def _wants_page(request: Request) -> bool:
    return "text/html" in request.headers.get("accept", "") and not request.url.path.startswith("/api")


def _answer(
    request: Request, status: int, detail: str, errors: Sequence[dict[str, str]] = (),
    more: Mapping[str, Any] | None = None,
) -> Response:  # fmt: skip
    if _wants_page(request) and "hx-request" not in request.headers:
        page: Response = request.app.state.templates.TemplateResponse(
            request, "error.html", {"status": status, "title": HTTPStatus(status).phrase, "detail": detail}, status
        )
        return page
    return problem(status, detail, errors, more)


def _refused(request: Request, error: FernError) -> Response:
    field = getattr(error, "field", None)
    errors = [{"field": field, "message": str(error)}] if field else []
    answer = _answer(request, status_of(error), str(error), errors, getattr(error, "more", None))
    if isinstance(error, Busy):
        answer.headers["retry-after"] = str(error.seconds)
    return answer


def unexpected(request: Request, error: Exception) -> Response:
    """The answer to an error that nobody awaited: the disk's in its words, a fault of ours with its number."""
    meant = meaning(error)
    if meant is not None:
        return _refused(request, meant)
    return _answer(request, 500, noted(error, f"{request.method} {request.url.path}", request.state.number))


def install_problems(app: FastAPI) -> None:
    """Teach `app` to answer every error."""

    @app.exception_handler(FernError)
    async def _ours(request: Request, error: FernError) -> Response:
        return _refused(request, error)

    @app.exception_handler(RequestValidationError)
    async def _invalid(request: Request, error: RequestValidationError) -> Response:
        found = _asked_wrong(request, error)
        return _answer(request, 422, sentences(found), found)

    @app.exception_handler(ValidationError)
    async def _invalid_model(request: Request, error: ValidationError) -> Response:
        found = field_errors(error.errors())
        return _answer(request, 422, sentences(found), found)

    @app.exception_handler(HTTPException)
    async def _http(request: Request, error: HTTPException) -> Response:
        return _answer(request, error.status_code, str(error.detail))
