"""The border: who may ask, how much may come in, and what a page may load."""

from __future__ import annotations

import json
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import ClientDisconnect
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' blob: data:; "
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
LOCAL_NAMES = ("127.0.0.1", "localhost", "[::1]")


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
    return urlsplit(origin).netloc != headers.get("host", "")


class Guard:
    """Refuses foreign hosts and cross-site changes, bounds what comes in, and sets the headers of every answer."""

    def __init__(self, app: ASGIApp, *, upload_bytes: int, any_host: bool) -> None:
        self._app = app
        self._upload_bytes = upload_bytes
        self._any_host = any_host

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        refusal = self._refusal(scope, headers)
        if scope["type"] == "websocket":
            if refusal is not None:
                await receive()
                await send({"type": "websocket.close", "code": 4403, "reason": refusal[2]})
                return
            await self._app(scope, receive, send)
            return
        if refusal is not None:
            await self._answer(send, *refusal)
            return
        await self._bounded(scope, receive, send, headers)

    def _refusal(self, scope: Scope, headers: Headers) -> tuple[int, str, str] | None:
        host = headers.get("host", "")
        name = host if host.endswith("]") else host.rsplit(":", 1)[0]
        if not self._any_host and name not in LOCAL_NAMES:
            return 403, "Forbidden", f"this server answers to {', '.join(LOCAL_NAMES)}, not to {name[:80]!r}"
        changes = scope["type"] == "websocket" or scope["method"] not in SAFE_METHODS
        if changes and from_elsewhere(headers):
            return 403, "Forbidden", "a request from another site may not change anything here"
        return None

    async def _bounded(self, scope: Scope, receive: Receive, send: Send, headers: Headers) -> None:
        # Forms with files are streamed to the disk; anything else is small.
        files = headers.get("content-type", "").startswith("multipart/form-data")
        limit = self._upload_bytes if files else PLAIN_BODY_BYTES
        words = f"at most {limit >> 20} MiB may be sent here"
        declared = headers.get("content-length", "0")
        if not declared.isdigit() or int(declared) > limit:
            await self._answer(send, 413, "Content Too Large", f"{words}, not {declared[:20]} bytes")
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
                    out["cache-control"] = "no-store"
            await send(message)

        try:
            await self._app(scope, counted, with_headers)
        except ClientDisconnect:
            if not refused:
                raise
        if refused:
            await self._answer(send, 413, "Content Too Large", words)

    @staticmethod
    async def _answer(send: Send, status: int, title: str, detail: str) -> None:
        body = problem_bytes(status, title, detail)
        headers = {"content-type": "application/problem+json", "content-length": str(len(body)), **HEADERS}
        await send(
            {
                "type": "http.response.start",
                "status": status,
                "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
            }
        )
        await send({"type": "http.response.body", "body": body})
