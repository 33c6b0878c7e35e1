"""Tokens: of the API, and those that an agent trades for its own. Only their digests are stored."""

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Row, Select, insert, select, update

from kuppel.core.access import Scope, TokenState
from kuppel.store import tables
from kuppel.store.inventory import NotFound
from kuppel.store.people import Person, person


@dataclass(frozen=True, slots=True)
class ApiToken:
    """A token of a person for programs."""

    id: int
    name: str
    owner: Person
    scopes: tuple[Scope, ...]
    created_us: int
    expires_us: int | None
    used_us: int | None
    withdrawn_us: int | None

    @property
    def state(self) -> TokenState:
        return TokenState(self.expires_us, self.withdrawn_us is not None)


@dataclass(frozen=True, slots=True)
class EnrolmentToken:
    """What an agent shows once to become a vantage point. `vantage_point_id` is set when it is for one already there."""

    id: int
    name: str
    made_by: str
    kind: str
    place: str
    tags: tuple[str, ...]
    vantage_point_id: int | None
    most_uses: int
    uses: int
    created_us: int
    expires_us: int
    withdrawn_us: int | None

    @property
    def state(self) -> TokenState:
        return TokenState(self.expires_us, self.withdrawn_us is not None, self.uses, self.most_uses)


def _api_token(connection: Connection, row: Row[Any]) -> ApiToken:
    return ApiToken(
        row.id,
        row.name,
        person(connection, row.person_id),
        tuple(Scope(one) for one in row.scopes),
        row.created_us,
        row.expires_us,
        row.used_us,
        row.withdrawn_us,
    )


def api_tokens(connection: Connection) -> list[ApiToken]:
    """All, newest first."""
    rows = connection.execute(select(tables.api_token).order_by(tables.api_token.c.id.desc())).all()
    return [_api_token(connection, row) for row in rows]


def api_token_by_digest(connection: Connection, digest: str) -> ApiToken | None:
    row = connection.execute(select(tables.api_token).where(tables.api_token.c.digest == digest)).first()
    return None if row is None else _api_token(connection, row)


def api_token(connection: Connection, token_id: int) -> ApiToken:
    row = connection.execute(select(tables.api_token).where(tables.api_token.c.id == token_id)).first()
    if row is None:
        raise NotFound(f"token {token_id}")
    return _api_token(connection, row)


def add_api_token(
    connection: Connection,
    name: str,
    person_id: int,
    scopes: tuple[Scope, ...],
    digest: str,
    now_us: int,
    expires_us: int | None,
) -> ApiToken:
    values = {
        "name": name,
        "person_id": person_id,
        "scopes": [str(one) for one in scopes],
        "digest": digest,
        "created_us": now_us,
        "expires_us": expires_us,
    }
    key = connection.execute(insert(tables.api_token).values(values)).inserted_primary_key
    assert key is not None  # the table has an integer key
    return api_token(connection, int(key[0]))


def note_api_token_use(connection: Connection, token_id: int, now_us: int) -> None:
    connection.execute(update(tables.api_token).where(tables.api_token.c.id == token_id).values(used_us=now_us))


def withdraw_api_token(connection: Connection, token_id: int, now_us: int) -> ApiToken:
    table = tables.api_token
    connection.execute(
        update(table).where(table.c.id == token_id, table.c.withdrawn_us.is_(None)).values(withdrawn_us=now_us)
    )
    return api_token(connection, token_id)


def _enrolment_query() -> Select[Any]:
    table = tables.enrolment_token
    return select(table, tables.person.c.full_name.label("made_by")).outerjoin(
        tables.person, tables.person.c.id == table.c.person_id
    )


def _enrolment_token(row: Row[Any]) -> EnrolmentToken:
    return EnrolmentToken(
        row.id,
        row.name,
        row.made_by or "the command line",
        row.kind,
        row.place,
        tuple(row.tags),
        row.vantage_point_id,
        row.most_uses,
        row.uses,
        row.created_us,
        row.expires_us,
        row.withdrawn_us,
    )


def enrolment_tokens(connection: Connection) -> list[EnrolmentToken]:
    """All, newest first."""
    rows = connection.execute(_enrolment_query().order_by(tables.enrolment_token.c.id.desc()))
    return [_enrolment_token(row) for row in rows]


def enrolment_token_by_digest(connection: Connection, digest: str) -> EnrolmentToken | None:
    row = connection.execute(_enrolment_query().where(tables.enrolment_token.c.digest == digest)).first()
    return None if row is None else _enrolment_token(row)


def enrolment_token(connection: Connection, token_id: int) -> EnrolmentToken:
    row = connection.execute(_enrolment_query().where(tables.enrolment_token.c.id == token_id)).first()
    if row is None:
        raise NotFound(f"enrolment token {token_id}")
    return _enrolment_token(row)


def add_enrolment_token(
    connection: Connection, wanted: EnrolmentToken, person_id: int | None, digest: str
) -> EnrolmentToken:
    """Store a new one; its id and `made_by` are ignored."""
    values = {
        "name": wanted.name,
        "person_id": person_id,
        "digest": digest,
        "kind": wanted.kind,
        "place": wanted.place,
        "tags": list(wanted.tags),
        "vantage_point_id": wanted.vantage_point_id,
        "most_uses": wanted.most_uses,
        "uses": 0,
        "created_us": wanted.created_us,
        "expires_us": wanted.expires_us,
    }
    key = connection.execute(insert(tables.enrolment_token).values(values)).inserted_primary_key
    assert key is not None  # the table has an integer key
    return enrolment_token(connection, int(key[0]))


def note_enrolment(connection: Connection, token_id: int) -> None:
    table = tables.enrolment_token
    connection.execute(update(table).where(table.c.id == token_id).values(uses=table.c.uses + 1))


def withdraw_enrolment_token(connection: Connection, token_id: int, now_us: int) -> EnrolmentToken:
    table = tables.enrolment_token
    connection.execute(
        update(table).where(table.c.id == token_id, table.c.withdrawn_us.is_(None)).values(withdrawn_us=now_us)
    )
    return enrolment_token(connection, token_id)
