"""The page to sign in on, where an access phrase is set."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Query, Request
from fastapi.responses import RedirectResponse, Response

from fernfield.core.errors import Busy, InvalidInput
from fernfield.web.kernel.gate.access import COOKIE, SESSION_S, Access
from fernfield.web.kernel.parts import page
from fernfield.web.kernel.routing import Router

router = Router(include_in_schema=False)

To = Annotated[str, Query(max_length=300)]


def _inside(to: str) -> str:
    """Where to go on: a path of ours, never another site."""
    return to if to.startswith("/") and not to.startswith(("//", "/\\")) else "/"


@router.get("/sign-in")
def sign_in_page(request: Request, to: To = "/") -> Response:
    return page(request, "sign_in.html", to=_inside(to), wrong="")


@router.post("/sign-in")
def sign_in(
    request: Request,
    phrase: Annotated[str, Form(max_length=1000)],
    name: Annotated[str, Form(max_length=40)] = "",
    to: Annotated[str, Form(max_length=300)] = "/",
) -> Response:
    access: Access = request.app.state.access
    address = request.client.host if request.client else ""
    try:
        session = access.sign_in(address, phrase, name.strip())
    except (InvalidInput, Busy) as error:
        status = 429 if isinstance(error, Busy) else 422
        answer = page(request, "sign_in.html", status, to=_inside(to), wrong=str(error), called=name)
        if isinstance(error, Busy):
            answer.headers["retry-after"] = str(error.seconds)
        return answer
    answer = RedirectResponse(_inside(to), 303)
    secure = request.url.scheme == "https"
    answer.set_cookie(COOKIE, session, max_age=SESSION_S, httponly=True, samesite="strict", secure=secure)
    return answer


@router.post("/sign-out")
def sign_out() -> Response:
    answer = RedirectResponse("/sign-in", 303)
    answer.delete_cookie(COOKIE, httponly=True, samesite="strict")
    return answer
