"""What stands around every answer: security headers, and bounds on what is taken in.

The headers are those of the OWASP Secure Headers Project and HTTP Headers Cheat Sheet. The content security policy allows
the hub's own files and nothing else: no inline script or style element, no other origin, no frame around it.
"""

import orjson
from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kuppel.hub.api.problem import Problem
from kuppel.wire.delivery import BATCH_BYTES

_BODY_BYTES = 1024 * 1024
_LARGER_BODIES = {"/api/agents/self/batches": BATCH_BYTES}

_POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data:",
        "font-src 'self'",
        "connect-src 'self'",
        "manifest-src 'self'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
_HEADERS = {
    "Content-Security-Policy": _POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
}
_A_YEAR_S = 31_536_000


class SecurityHeaders:
    """Adds the headers to every answer; answers of the API are kept by no cache unless they say otherwise."""

    def __init__(self, app: ASGIApp, *, is_behind_tls: bool) -> None:
        self._app = app
        self._headers = _HEADERS | (
            {"Strict-Transport-Security": f"max-age={_A_YEAR_S}; includeSubDomains"} if is_behind_tls else {}
        )

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in self._headers.items():
                    headers.setdefault(name, value)
                if scope["path"].startswith("/api/"):
                    headers.setdefault("Cache-Control", "no-store")
            await send(message)

        await self._app(scope, receive, with_headers)


class _TooLarge(Exception):
    pass


class BodyBound:
    """Refuses bodies over their bound with 413: by what they say of their length, or once they are past it."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        bound = _LARGER_BODIES.get(scope["path"], _BODY_BYTES)
        length = Headers(scope=scope).get("Content-Length", "")
        taken = 0
        is_begun = False

        async def bounded() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > bound:
                raise _TooLarge
            return message

        async def noted(message: Message) -> None:
            nonlocal is_begun
            is_begun = True
            await send(message)

        try:
            if length.isdigit() and int(length) > bound:
                raise _TooLarge
            await self._app(scope, bounded, noted)
        except _TooLarge:
            if not is_begun:
                await _refuse(send, bound)


async def _refuse(send: Send, bound: int) -> None:
    problem = Problem(
        title=f"A request may hold {bound:,} bytes at most.", status=413, field="body", remedy="Send less at a time."
    )
    body = orjson.dumps(problem.model_dump(exclude_none=True))
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": 413, "headers": headers})
    await send({"type": "http.response.body", "body": body})
