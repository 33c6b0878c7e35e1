"""What stands around every answer: security headers, and bounds on what is taken in.

The headers are those of the OWASP Secure Headers Project and HTTP Headers Cheat Sheet. The content security policy allows
the hub's own files and nothing else: no inline script or style element, no other origin, no frame around it.
"""

import structlog
from starlette.datastructures import Headers, MutableHeaders
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kuppel.hub.api.problem import problem
from kuppel.wire.delivery import BATCH_BYTES

_BODY_BYTES = 1024 * 1024
_LARGER_BODIES = {"/api/map-layer": 8_000_000, "/api/agents/self/batches": BATCH_BYTES}

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
_log = structlog.get_logger()


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


class BodyBound:
    """Refuses bodies over their bound with 413: by what they say of their length, or once they are past it."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        bound = _LARGER_BODIES.get(scope["path"], _BODY_BYTES)
        title = f"A request may hold {bound:,} bytes at most."
        length = Headers(scope=scope).get("Content-Length", "")
        if length.isdigit() and int(length) > bound:
            refusal = problem(413, title, field="body", remedy="Send less at a time.")
            await refusal(scope, receive, send)
            return
        taken = 0

        async def bounded() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > bound:
                raise HTTPException(413, title)
            return message

        await self._app(scope, bounded, send)


class Unforeseen:
    """What nobody foresaw is logged with all that is known of it, and told without anything of the inside."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        is_begun = False

        async def noted(message: Message) -> None:
            nonlocal is_begun
            is_begun = True
            await send(message)

        try:
            await self._app(scope, receive, noted)
        except Exception as error:
            _log.error("unforeseen error", path=scope.get("path"), error=type(error).__name__, exc_info=error)
            if is_begun or scope["type"] != "http":
                raise
            remedy = "Try again; if it stays, look at the log."
            await problem(500, "The hub failed at this. It is in its log.", remedy=remedy)(scope, receive, send)
