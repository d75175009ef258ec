"""The border: who may ask, how much may come in, and what a page may load."""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections.abc import Callable, Sequence
from ipaddress import ip_address
from urllib.parse import quote, urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import ClientDisconnect, Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fernfield.web.kernel.assets import KEPT_FOR_GOOD, at, import_map_hash
from fernfield.web.kernel.gate.access import OPEN, Access, Guest
from fernfield.work.kernel.faults import new_number
from fernfield.work.kernel.people import WHO

POLICY = (
    f"default-src 'none'; script-src 'self' {import_map_hash()}; style-src 'self'; font-src 'self'; "
    "img-src 'self' blob: data:; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "content-security-policy": POLICY,
    "x-content-type-options": "nosniff",
    "referrer-policy": "same-origin",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}
SAFE_METHODS = ("GET", "HEAD", "OPTIONS")
PLAIN_BODY_BYTES = 16 << 20
STOPPED = "the server is being stopped: what was acknowledged is kept; ask again when it is back"
STOPPED_S = 5
LOCAL_NAMES = ("127.0.0.1", "localhost", "[::1]")

Refusal = tuple[int, str, str]
Told = Callable[[Scope, int, float], None]
"""Hears of every answer: what was asked, its status, and the seconds it took."""


def _kept(path: str) -> str:
    """How long a browser may keep an answer that says nothing of it."""
    if path.startswith(f"{at()}/"):
        return KEPT_FOR_GOOD
    # Under their plain names files are asked for again, and sent again only when they have changed.
    return "no-cache" if path.startswith(("/static/", "/rooms/")) else "no-store"


def problem_bytes(status: int, title: str, detail: str) -> bytes:
    return json.dumps({"type": "about:blank", "title": title, "status": status, "detail": detail}).encode()


def from_elsewhere(headers: Headers) -> bool:
    """Whether a browser says that another site made this request (Fetch Metadata, else Origin)."""
    site = headers.get("sec-fetch-site")
    if site is not None and site not in ("same-origin", "none"):
        return True
    origin = headers.get("origin")
    if origin is None:
        return False
    try:
        return urlsplit(origin).netloc != headers.get("host", "")
    except ValueError:
        # What is no address is not ours.
        return True


def _is_number(name: str) -> bool:
    try:
        ip_address(name.strip("[]"))
    except ValueError:
        return False
    return True


class Guard:
    """Refuses foreign hosts, those who have not signed in, and cross-site changes; bounds what comes in; sets the
    headers of every answer; and answers what nobody else does.

    names : host names that the server answers to besides those of this machine
    elsewhere : it listens to others too: then it answers to any address in figures, since another site's page can
        bring its own name here (DNS rebinding), but no number
    takes_files : whether the call that is meant takes files
    fault : answers an error that nobody awaited
    """

    def __init__(
        self, app: ASGIApp, *, access: Access, upload_bytes: int, names: Sequence[str], elsewhere: bool,
        takes_files: Callable[[Scope], bool], fault: Callable[[Request, Exception], Response],
        room: Callable[[], int], told: Told,
    ) -> None:  # fmt: skip
        self._app, self._access, self._fault = app, access, fault
        self._upload_bytes, self._takes_files, self._room = upload_bytes, takes_files, room
        self._names, self._elsewhere, self._told = {*LOCAL_NAMES, *names}, elsewhere, told

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        guest = self._access.guest(headers)
        refusal = self._refusal(scope, headers, guest)
        scope.setdefault("state", {}).update(guest=guest or Guest(), number=new_number())
        if guest is not None:
            WHO.set(guest.name)
        if scope["type"] == "websocket":
            if refusal is not None:
                await receive()
                await send({"type": "websocket.close", "code": 4000 + refusal[0] % 1000, "reason": refusal[2]})
                return
            # A socket that is cut off when the server stops has nothing more to say.
            with contextlib.suppress(asyncio.CancelledError):
                await self._app(scope, receive, send)
            return
        began, status = time.monotonic(), 500

        async def heard(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
            await send(message)

        try:
            await self._ask(scope, receive, heard, headers, refusal)
        finally:
            self._told(scope, status, time.monotonic() - began)

    async def _ask(self, scope: Scope, receive: Receive, send: Send, headers: Headers, refusal: Refusal | None) -> None:
        if refusal is not None and refusal[0] == 401 and "text/html" in headers.get("accept", ""):
            to = quote(scope["path"], safe="/")
            await self._answer(send, 303, "See Other", "sign in first", {"location": f"/sign-in?to={to}"})
        elif refusal is not None:
            more = {"www-authenticate": "Bearer"} if refusal[0] == 401 else {}
            await self._answer(send, *refusal, more)
        else:
            await self._bounded(scope, receive, send, headers)

    def _refusal(self, scope: Scope, headers: Headers, guest: Guest | None) -> Refusal | None:
        host = headers.get("host", "")
        name = host if host.endswith("]") else host.rsplit(":", 1)[0]
        if name not in self._names and not (self._elsewhere and _is_number(name)):
            return 403, "Forbidden", f"this server answers to {', '.join(sorted(self._names))}, not to {name[:80]!r}"
        changes = scope["type"] == "websocket" or scope["method"] not in SAFE_METHODS
        if changes and from_elsewhere(headers):
            return 403, "Forbidden", "a request from another site may not change anything here"
        if scope["path"].startswith(OPEN):
            return None
        if guest is None:
            return 401, "Unauthorized", "sign in with the access phrase, or say a token: Authorization: Bearer …"
        if changes and guest.may == "look" and scope["type"] == "http" and scope["path"] != "/sign-out":
            return 403, "Forbidden", "you came in to look only: nothing can be changed"
        return None

    async def _bounded(self, scope: Scope, receive: Receive, send: Send, headers: Headers) -> None:
        # Forms with files are streamed to the disk, where a call takes one; anything else is small.
        files = headers.get("content-type", "").startswith("multipart/form-data") and self._takes_files(scope)
        limit = self._upload_bytes if files else PLAIN_BODY_BYTES
        words = f"at most {limit >> 20} MiB may be sent here"
        declared = headers.get("content-length", "0")
        if not declared.isdigit() or int(declared) > limit:
            await self._answer(send, 413, "Content Too Large", f"{words}, not {declared[:20]} bytes")
            return
        if files and 2 * int(declared) > self._room():
            # Once as it comes in, once where it waits.
            detail = f"the disk is too full for a file of {int(declared) >> 20} MiB: free some space, and try again"
            await self._answer(send, 507, "Insufficient Storage", detail)
            return
        have = 0
        started = refused = False

        async def counted() -> Message:
            nonlocal have, refused
            message = await receive()
            if message["type"] == "http.request":
                have += len(message.get("body", b""))
                if have > limit and not started:
                    # To the application it looks as if the sender had gone; its answer is dropped.
                    refused = True
                    return {"type": "http.disconnect"}
            return message

        async def with_headers(message: Message) -> None:
            nonlocal started
            if refused:
                return
            if message["type"] == "http.response.start":
                started = True
                out = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    out[name] = value
                if "cache-control" not in out:
                    out["cache-control"] = _kept(scope["path"])
            await send(message)

        try:
            await self._app(scope, counted, with_headers)
        except ClientDisconnect:
            if not refused:
                raise
        except asyncio.CancelledError:
            # The server stops, and waits no longer. An answer that was begun ends without an end, as below.
            if not started:
                more = {"retry-after": str(STOPPED_S)}
                await self._answer(send, 503, "Service Unavailable", STOPPED, more)
            return
        except Exception as error:
            answer = self._fault(Request(scope), error)
            if started:
                # Half an answer is on its way: only an end without an end tells that it is not whole.
                raise
            await answer(scope, receive, with_headers)
        if refused:
            await self._answer(send, 413, "Content Too Large", words)

    @staticmethod
    async def _answer(send: Send, status: int, title: str, detail: str, more: dict[str, str] | None = None) -> None:
        body = problem_bytes(status, title, detail)
        headers = {
            "content-type": "application/problem+json", "content-length": str(len(body)), "cache-control": "no-store",
            **HEADERS, **(more or {}),
        }  # fmt: skip
        await send(
            {
                "type": "http.response.start",
                "status": status,
                "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
            }
        )
        await send({"type": "http.response.body", "body": body})
