"""Tokens for programs, and those with which agents enrol. For admins."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.access import Scope, TokenState
from kuppel.core.duration import HOUR_US
from kuppel.hub.api.guard import Access, Admin, may
from kuppel.hub.api.problem import Refusal, responses
from kuppel.hub.api.shapes import Body, HubDep, at, at_or_none
from kuppel.hub.engine.access import digest, new_token
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import now_us
from kuppel.store import inventory, tokens
from kuppel.store.database import Connection
from kuppel.store.tokens import ApiToken, EnrolmentToken

router = APIRouter(tags=["tokens"])


class NewApiToken(Body):
    name: str = Field(min_length=1, max_length=80, examples=["weekly report"], description="What it is for.")
    scopes: list[Scope] = Field(min_length=1, max_length=3, examples=[["see"]])
    expires_days: int | None = Field(default=90, ge=1, le=3650, description="In how many days it ends; null for never.")


class ApiTokenShape(BaseModel):
    id: int
    name: str
    owner: str
    scopes: list[Scope]
    created: datetime
    expires: datetime | None
    used: datetime | None = Field(description="When last, to the minute.")
    withdrawn: datetime | None
    is_good: bool

    @classmethod
    def of(cls, token: ApiToken) -> "ApiTokenShape":
        return cls(
            id=token.id,
            name=token.name,
            owner=token.owner.full_name,
            scopes=list(token.scopes),
            created=at(token.created_us),
            expires=at_or_none(token.expires_us),
            used=at_or_none(token.used_us),
            withdrawn=at_or_none(token.withdrawn_us),
            is_good=token.owner.is_active and _is_good(token.state),
        )


class ApiTokenWithSecret(BaseModel):
    """A new token; its secret is shown this once."""

    token: ApiTokenShape
    secret: str


class NewEnrolmentToken(Body):
    """For one machine unless `most_uses` says more."""

    name: str = Field(
        default="", max_length=80, examples=["Averil, gate 2"], description="The vantage point's name, or a note."
    )
    kind: str = Field(default="site", pattern="^(public|site|mobile|personal)$")
    place: str = Field(default="", max_length=120, examples=["harbour office, Averil"])
    tags: list[str] = Field(default_factory=list, max_length=20, description="Tags that its vantage points get.")
    most_uses: int = Field(default=1, ge=1, le=1000, description="How many machines may join with it.")
    expires_h: float = Field(default=1, gt=0, le=24 * 90, description="For how many hours it is good.")
    vantage_point: int | None = Field(
        default=None, description="Id of a vantage point that gets a new agent; its old one is refused from then on."
    )


class EnrolmentTokenShape(BaseModel):
    id: int
    name: str
    made_by: str
    kind: str
    place: str
    tags: list[str]
    most_uses: int
    uses: int
    created: datetime
    expires: datetime
    withdrawn: datetime | None
    is_good: bool

    @classmethod
    def of(cls, token: EnrolmentToken) -> "EnrolmentTokenShape":
        return cls(
            id=token.id,
            name=token.name,
            made_by=token.made_by,
            kind=token.kind,
            place=token.place,
            tags=list(token.tags),
            most_uses=token.most_uses,
            uses=token.uses,
            created=at(token.created_us),
            expires=at(token.expires_us),
            withdrawn=at_or_none(token.withdrawn_us),
            is_good=_is_good(token.state),
        )


class EnrolmentTokenWithSecret(BaseModel):
    """A new enrolment token; its secret is shown this once."""

    token: EnrolmentTokenShape
    secret: str


def _is_good(state: TokenState) -> bool:
    return state.refusal(now_us()) is None


@router.get("/tokens", summary="List tokens", dependencies=[may(Access.ADMINISTER)])
def list_tokens(hub: HubDep) -> list[ApiTokenShape]:
    with hub.database.reading() as connection:
        return [ApiTokenShape.of(one) for one in tokens.api_tokens(connection)]


@router.post("/tokens", status_code=201, summary="Make a token", responses=responses(422, 429))
def make_token(new: NewApiToken, hub: HubDep, caller: Admin) -> ApiTokenWithSecret:
    """It may do what its scopes say, and never more than its owner, who is whoever makes it."""
    owner = caller.person
    assert owner is not None  # sessions and tokens both belong to a person
    beyond = set(new.scopes) - caller.scopes
    if beyond:
        raise Refusal(
            403, f"You may not {', '.join(sorted(beyond))} yourself.", remedy="Leave that scope out.", field="scopes"
        )
    secret = new_token("api")
    now = now_us()
    expires_us = None if new.expires_days is None else now + new.expires_days * 24 * HOUR_US

    def job(connection: Connection) -> Changed[ApiToken]:
        made = tokens.add_api_token(
            connection, new.name, owner.id, tuple(sorted(set(new.scopes))), digest(secret), now, expires_us
        )
        return Changed(made, f"token {made.name}", None, {"scopes": sorted(new.scopes), "expires_days": new.expires_days})

    return ApiTokenWithSecret(token=ApiTokenShape.of(change(hub.writer, caller, "made", now, job)), secret=secret)


@router.delete("/tokens/{token}", summary="Withdraw a token at once", responses=responses(404, 429))
def withdraw_token(token: int, hub: HubDep, caller: Admin) -> ApiTokenShape:
    def job(connection: Connection) -> Changed[ApiToken]:
        gone = tokens.withdraw_api_token(connection, token, now_us())
        return Changed(gone, f"token {gone.name}")

    return ApiTokenShape.of(change(hub.writer, caller, "withdrew", now_us(), job))


@router.get("/enrolment-tokens", summary="List enrolment tokens", dependencies=[may(Access.ADMINISTER)])
def list_enrolment_tokens(hub: HubDep) -> list[EnrolmentTokenShape]:
    with hub.database.reading() as connection:
        return [EnrolmentTokenShape.of(one) for one in tokens.enrolment_tokens(connection)]


@router.post("/enrolment-tokens", status_code=201, summary="Make an enrolment token", responses=responses(404, 422, 429))
def make_enrolment_token(new: NewEnrolmentToken, hub: HubDep, caller: Admin) -> EnrolmentTokenWithSecret:
    """An agent trades it for a token of its own, bound to its vantage point."""
    secret = new_token("join")
    now = now_us()
    wanted = EnrolmentToken(
        id=0,
        name=new.name,
        made_by="",
        kind=new.kind,
        place=new.place,
        tags=tuple(dict.fromkeys(new.tags)),
        vantage_point_id=new.vantage_point,
        most_uses=1 if new.vantage_point is not None else new.most_uses,
        uses=0,
        created_us=now,
        expires_us=now + round(new.expires_h * HOUR_US),
        withdrawn_us=None,
    )

    def job(connection: Connection) -> Changed[EnrolmentToken]:
        if new.vantage_point is not None:
            inventory.vantage_point(connection, new.vantage_point)
        made = tokens.add_enrolment_token(connection, wanted, caller.person.id if caller.person else None, digest(secret))
        told = new.model_dump(exclude_defaults=True, exclude={"name"})
        return Changed(made, f"enrolment token {made.name or made.id}", None, told)

    made = change(hub.writer, caller, "made", now, job)
    return EnrolmentTokenWithSecret(token=EnrolmentTokenShape.of(made), secret=secret)


@router.delete("/enrolment-tokens/{token}", summary="Withdraw an enrolment token at once", responses=responses(404, 429))
def withdraw_enrolment_token(token: int, hub: HubDep, caller: Admin) -> EnrolmentTokenShape:
    """Agents that joined with it stay; nobody else joins."""

    def job(connection: Connection) -> Changed[EnrolmentToken]:
        gone = tokens.withdraw_enrolment_token(connection, token, now_us())
        return Changed(gone, f"enrolment token {gone.name or gone.id}")

    return EnrolmentTokenShape.of(change(hub.writer, caller, "withdrew", now_us(), job))
