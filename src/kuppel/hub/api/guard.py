"""Who may call which route. Every route of the API declares it with `may`; one that does not stops the hub from starting.

| access       | who                                                                                     |
| ------------ | --------------------------------------------------------------------------------------- |
| anybody      | nobody is asked who they are: is the hub up, who is signed in, signing in                |
| joining      | shows an enrolment token; the route itself looks at it                                   |
| agent        | an agent, with its own token                                                             |
| self         | a person with a session, for what concerns that person alone                             |
| see          | people of every role; tokens of that scope                                               |
| edit         | engineers and admins; tokens of that scope                                               |
| administer   | admins; tokens of that scope                                                             |

A person signs in and has a session, which the browser shows by a cookie that scripts cannot read and that no other site can
make it send (`SameSite=Strict`). A request that changes something must besides come from a page of the hub itself: the
browser says so in `Sec-Fetch-Site` or `Origin`, and no script can forge these (OWASP Cross-Site Request Forgery Prevention
Cheat Sheet). Programs and agents show a token instead, by which no browser can be tricked.
"""

from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated, Any
from urllib.parse import urlsplit

from fastapi import Depends, FastAPI, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.routing import APIRoute, iter_route_contexts
from starlette.routing import BaseRoute, Mount

from kuppel.core.access import Scope
from kuppel.hub.api.problem import Refusal
from kuppel.hub.api.shapes import HubDep
from kuppel.hub.engine.access import Caller, TokenRefused
from kuppel.hub.hub import Hub, now_us
from kuppel.store.record import Entry

_SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})
MUST_CHANGE = "urn:kuppel:problem:password-must-change"


class Access(StrEnum):
    ANYBODY = "anybody"
    JOINING = "joining"
    AGENT = "agent"
    SELF = "self"
    SEE = "see"
    EDIT = "edit"
    ADMINISTER = "administer"


_SCOPES = {Access.SEE: Scope.SEE, Access.EDIT: Scope.EDIT, Access.ADMINISTER: Scope.ADMINISTER}


class Guard:
    """A route's declaration, and what enforces it: answers with the caller, or refuses."""

    def __init__(self, access: Access) -> None:
        self.access = access

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Guard) and other.access is self.access

    def __hash__(self) -> int:
        return hash(self.access)

    async def __call__(self, request: Request, hub: HubDep) -> Caller:
        if self.access in (Access.ANYBODY, Access.JOINING):
            return Caller("nobody", "", client_address(request))
        return await run_in_threadpool(self.admitted, request, hub)

    def admitted(self, request: Request, hub: Hub) -> Caller:
        """The caller, recognised and allowed.

        Raises
        ------
        Refusal
        """
        caller = recognised(request, hub, is_agent=self.access is Access.AGENT)
        if self.access is Access.AGENT:
            return caller
        if self.access is Access.SELF:
            if caller.session is None:
                raise Refusal(403, "This is for a person who signed in, not for a token.", remedy="Sign in.")
            return caller
        if caller.session is not None and caller.person is not None and caller.person.must_change:
            raise Refusal(
                403, "The password is a one-time one.", remedy="Choose a password of your own first.", type=MUST_CHANGE
            )
        scope = _SCOPES[self.access]
        if scope not in caller.scopes:
            may = ", ".join(sorted(caller.scopes)) or "nothing"
            hub.access.note_refusal(
                Entry(now_us(), caller.kind, caller.name, caller.address, "refused", f"{request.method} {request.url.path}")
            )
            raise Refusal(
                403, f"This needs the right to {scope}; {caller.name} may {may}.", remedy="Ask an admin for that right."
            )
        return caller


def may(access: Access) -> Any:
    """The declaration of a route: `dependencies=[may(Access.SEE)]`, or in a parameter that wants the caller."""
    return Depends(Guard(access))


Editor = Annotated[Caller, may(Access.EDIT)]
Admin = Annotated[Caller, may(Access.ADMINISTER)]
Oneself = Annotated[Caller, may(Access.SELF)]


@dataclass(frozen=True, slots=True)
class Declaration:
    """A route and who may call it; None when it does not say."""

    path: str
    methods: frozenset[str]
    access: Access | None


def declarations(app: FastAPI) -> list[Declaration]:
    """What every route declares, in whatever router it was made. Files of the web are mounted, not routed."""
    return [
        Declaration(one.path or "", frozenset(one.methods or ()), _declared(one.original_route))
        for one in iter_route_contexts(app.routes)
        if not isinstance(one.original_route, Mount)
    ]


def _declared(route: BaseRoute) -> Access | None:
    waiting = list(route.dependant.dependencies) if isinstance(route, APIRoute) else []
    while waiting:
        one = waiting.pop()
        if isinstance(one.call, Guard):
            return one.call.access
        waiting += one.dependencies
    return None


def session_cookie(hub: Hub) -> str:
    """The cookie's name. Behind TLS its prefix makes browsers refuse one that others set (RFC 6265bis §4.1.3.2)."""
    return "__Host-kuppel-session" if hub.settings.is_behind_tls else "kuppel-session"


def client_address(request: Request) -> str:
    return request.client.host if request.client else ""


def bearer(request: Request) -> str | None:
    """The token of the request (RFC 6750 §2.1), None when it shows none."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" and token.strip() else None


def unauthorised(title: str, remedy: str) -> Refusal:
    """401, and how to be recognised (RFC 9110 §11.6.1, RFC 6750 §3)."""
    return Refusal(401, title, remedy=remedy, headers={"WWW-Authenticate": "Bearer"})


def recognised(request: Request, hub: Hub, *, is_agent: bool = False) -> Caller:
    """Whoever shows a good token or session.

    Raises
    ------
    Refusal
    """
    address = client_address(request)
    token = bearer(request)
    if is_agent and token is None:
        raise unauthorised("This is for agents, with their token.", "Enrol first.")
    if token is not None:
        try:
            if is_agent:
                return hub.access.by_agent_token(token, address)
            return hub.access.by_api_token(token, address, now_us())
        except TokenRefused as refused:
            note_token_refused(hub, request, refused)
            remedy = "Enrol the agent again." if is_agent else "Make a new one."
            raise unauthorised(f"This token cannot be used: {refused.why}.", remedy) from None
    session = request.cookies.get(session_cookie(hub))
    caller = hub.access.by_session(session, address, now_us()) if session else None
    if caller is None:
        raise unauthorised("Nobody is signed in.", "Sign in, or show a token.")
    if request.method not in _SAFE_METHODS:
        require_own_page(request)
    return caller


def require_own_page(request: Request) -> None:
    """Refuse a change that a page of another site made the browser ask for."""
    site = request.headers.get("Sec-Fetch-Site")
    origin = request.headers.get("Origin")
    if site is not None:
        is_own = site == "same-origin"
    else:
        is_own = origin is not None and urlsplit(origin).netloc == request.headers.get("Host")
    if not is_own:
        raise Refusal(
            403, "This change was not asked for by a page of this hub.", remedy="Use Kuppel's own page, or a token."
        )


def note_token_refused(hub: Hub, request: Request, refused: TokenRefused) -> None:
    subject = f"a token at {request.method} {request.url.path}: {refused.why}"
    hub.access.note_refusal(Entry(now_us(), "token", refused.actor, client_address(request), "refused", subject))
