"""Signing in and out."""

import contextlib
import secrets
from collections.abc import Callable, Iterator
from typing import Annotated, TypeVar

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field, SecretStr

from kuppel.core.access import MOST_CHARACTERS, SCOPES, Role, Scope, check_password
from kuppel.core.error import SettingsError
from kuppel.hub.api.guard import Access, Oneself, client_address, may, require_own_page, session_cookie
from kuppel.hub.api.problem import Refusal, responses
from kuppel.hub.api.shapes import Body, HubDep
from kuppel.hub.engine import passwords
from kuppel.hub.engine.access import Caller, SignInRefused, SignInWaits, digest
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import Hub, now_us
from kuppel.hub.settings import DemoPerson
from kuppel.store import people
from kuppel.store.database import Connection
from kuppel.store.people import Person

router = APIRouter(prefix="/session", tags=["session"])
T = TypeVar("T")
Secret = Annotated[SecretStr, Field(min_length=1, max_length=MOST_CHARACTERS)]


class Credentials(Body):
    name: str = Field(min_length=1, max_length=80, examples=["signe"])
    password: Secret


class NewPassword(Body):
    current: Secret
    new: Secret = Field(description="At least 15 characters; no other rule of composition.")


class SignedIn(BaseModel):
    """Who is signed in and what that person may do."""

    name: str = Field(examples=["signe"])
    full_name: str = Field(examples=["Signe L."])
    role: Role
    scopes: list[Scope]
    must_change: bool = Field(description="The password is a one-time one: nothing else can be done before it is changed.")

    @classmethod
    def of(cls, person: Person) -> "SignedIn":
        scopes = [one for one in Scope if one in SCOPES[person.role]]
        return cls(
            name=person.name,
            full_name=person.full_name,
            role=person.role,
            scopes=scopes,
            must_change=person.must_change,
        )


class SessionShape(BaseModel):
    person: SignedIn | None = Field(description="Null when nobody is signed in.")
    site: str = Field(description="Whose hub this is.", examples=["Skerry Line"])
    demo_people: list[DemoPerson] = Field(description="People of the demo, with their passwords; empty elsewhere.")


def _own_page(request: Request) -> None:
    """Signing in changes something, too: nobody may be signed in by another site's page unawares."""
    if "Sec-Fetch-Site" in request.headers or "Origin" in request.headers:
        require_own_page(request)


@router.get("", summary="Who is signed in?", dependencies=[may(Access.ANYBODY)])
def read_session(request: Request, hub: HubDep) -> SessionShape:
    name = request.cookies.get(session_cookie(hub))
    caller = hub.access.by_session(name, client_address(request), now_us()) if name else None
    return _shape(hub, caller.person if caller else None)


@router.post(
    "",
    summary="Sign in",
    responses=responses(422, 429),
    dependencies=[may(Access.ANYBODY), Depends(_own_page)],
)
def sign_in(credentials: Credentials, request: Request, response: Response, hub: HubDep) -> SessionShape:
    """A session of its own each time; one that the browser still had ends. After five wrong passwords for a name each
    further try must wait longer, 30 s at first."""
    before = request.cookies.get(session_cookie(hub))
    password = credentials.password.get_secret_value()
    with _refusing("This name and password do not go together.", "password"):
        session, person = hub.access.sign_in(credentials.name, password, client_address(request), now_us(), before)
    _set_cookie(hub, response, session)
    return _shape(hub, person)


@router.delete("", status_code=204, summary="Sign out")
def sign_out(response: Response, hub: HubDep, caller: Oneself) -> None:
    session = caller.session
    assert session is not None  # the guard saw to it
    _change(hub, caller, "signed out", lambda connection: people.end_session(connection, session))
    _drop_cookie(hub, response)


@router.delete("/all", status_code=204, summary="Sign out everywhere")
def sign_out_everywhere(response: Response, hub: HubDep, caller: Oneself) -> None:
    person = _person(caller)
    _change(hub, caller, "signed out everywhere", lambda connection: people.end_sessions(connection, person.id))
    _drop_cookie(hub, response)


@router.put("/password", summary="Choose another password", responses=responses(422, 429))
def change_password(wanted: NewPassword, response: Response, hub: HubDep, caller: Oneself) -> SessionShape:
    """Ends every session of the person and opens a new one here."""
    person = _person(caller)
    current, new = wanted.current.get_secret_value(), wanted.new.get_secret_value()
    with _refusing("This is not the current password.", "current"):
        hub.access.confirm(person.name, current, caller.address, now_us())
    check_password(new, person.name)
    if new == current:
        raise SettingsError("password", "the current one", "be another one than before")
    made, session = passwords.hashed(new), secrets.token_urlsafe(32)

    def job(connection: Connection) -> Person:
        people.set_password(connection, person.id, made, must_change=False)
        people.open_session(connection, person.id, digest(session), caller.address, now_us())
        return people.person(connection, person.id)

    changed = _change(hub, caller, "changed the own password", job)
    _set_cookie(hub, response, session)
    return _shape(hub, changed)


@contextlib.contextmanager
def _refusing(title: str, field: str) -> Iterator[None]:
    """Turns a wrong password into a problem that says how long to wait, if at all."""
    try:
        yield
    except SignInWaits as waits:
        wait = f"{waits.wait_s} s" if waits.wait_s < 100 else f"{-(-waits.wait_s // 60)} min"
        raise Refusal(
            429,
            "There were too many wrong passwords for this name.",
            remedy=f"Wait {wait}, then try again.",
            field=field,
            headers={"Retry-After": str(waits.wait_s)},
        ) from None
    except SignInRefused:
        raise Refusal(401, title, remedy="Look at both; an admin can reset a password.", field=field) from None


def _person(caller: Caller) -> Person:
    assert caller.person is not None  # the guard saw to it
    return caller.person


def _change(hub: Hub, caller: Caller, action: str, job: Callable[[Connection], T]) -> T:
    subject = f"person {_person(caller).name}"
    return change(hub.writer, caller, action, now_us(), lambda connection: Changed(job(connection), subject))


def _shape(hub: Hub, person: Person | None) -> SessionShape:
    return SessionShape(
        person=None if person is None else SignedIn.of(person),
        site=hub.settings.site,
        demo_people=hub.settings.demo_people,
    )


def _set_cookie(hub: Hub, response: Response, session: str) -> None:
    """OWASP Session Management Cheat Sheet: HttpOnly, SameSite=Strict, Secure behind TLS, no Domain."""
    response.set_cookie(
        session_cookie(hub),
        session,
        max_age=hub.settings.session_most_h * 3600,
        secure=hub.settings.is_behind_tls,
        httponly=True,
        samesite="strict",
        path="/",
    )


def _drop_cookie(hub: Hub, response: Response) -> None:
    response.delete_cookie(
        session_cookie(hub), secure=hub.settings.is_behind_tls, httponly=True, samesite="strict", path="/"
    )
