"""People, their sessions, and the wrong passwords that were tried."""

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Row, delete, func, insert, select, update

from kuppel.core.access import FAILURE_MEMORY_US, Role
from kuppel.core.error import SettingsError
from kuppel.store import tables
from kuppel.store.inventory import NotFound


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody who may sign in. `must_change`: the password is a one-time one."""

    id: int
    name: str
    full_name: str
    role: Role
    password_hash: str
    must_change: bool
    is_active: bool
    created_us: int
    signed_in_us: int | None


@dataclass(frozen=True, slots=True)
class Session:
    digest: str
    person: Person
    created_us: int
    used_us: int


def _person(row: Row[Any]) -> Person:
    return Person(
        row.id,
        row.name,
        row.full_name,
        Role(row.role),
        row.password_hash,
        row.must_change,
        row.is_active,
        row.created_us,
        row.signed_in_us,
    )


def people(connection: Connection) -> list[Person]:
    return [_person(row) for row in connection.execute(select(tables.person).order_by(tables.person.c.name))]


def person(connection: Connection, person_id: int) -> Person:
    row = connection.execute(select(tables.person).where(tables.person.c.id == person_id)).first()
    if row is None:
        raise NotFound(f"person {person_id}")
    return _person(row)


def person_named(connection: Connection, name: str) -> Person | None:
    """By name, whatever its case."""
    row = connection.execute(select(tables.person).where(tables.person.c.name == name)).first()
    return None if row is None else _person(row)


def add_person(
    connection: Connection, name: str, full_name: str, role: Role, password_hash: str, now_us: int, *, must_change: bool
) -> Person:
    if person_named(connection, name) is not None:
        raise SettingsError("name", name, "be free, but somebody has it; choose another")
    values = {
        "name": name,
        "full_name": full_name,
        "role": role,
        "password_hash": password_hash,
        "must_change": must_change,
        "is_active": True,
        "created_us": now_us,
    }
    key = connection.execute(insert(tables.person).values(values)).inserted_primary_key
    assert key is not None  # the table has an integer key
    return person(connection, int(key[0]))


def change_person(connection: Connection, person_id: int, full_name: str, role: Role, *, is_active: bool) -> Person:
    """Change what a person may do. Whoever is shut out loses every session at once.

    Raises
    ------
    SettingsError
        when nobody would be left who may administer.
    """
    before = person(connection, person_id)
    is_last = before.role is Role.ADMIN and before.is_active and _active_admins(connection) == 1
    if is_last and not (is_active and role is Role.ADMIN):
        field, value = ("role", role) if role is not Role.ADMIN else ("is_active", is_active)
        raise SettingsError(field, value, "leave one active admin; make another one first")
    connection.execute(
        update(tables.person)
        .where(tables.person.c.id == person_id)
        .values(full_name=full_name, role=role, is_active=is_active)
    )
    if not is_active or role is not before.role:
        # OWASP Session Management Cheat Sheet: a session does not outlive a change of privilege.
        end_sessions(connection, person_id)
    return person(connection, person_id)


def set_password(connection: Connection, person_id: int, password_hash: str, *, must_change: bool) -> None:
    """A new password ends every session and forgets the wrong tries."""
    name = person(connection, person_id).name
    connection.execute(
        update(tables.person)
        .where(tables.person.c.id == person_id)
        .values(password_hash=password_hash, must_change=must_change)
    )
    end_sessions(connection, person_id)
    forget_failures(connection, name)


def _active_admins(connection: Connection) -> int:
    table = tables.person
    query = select(func.count()).select_from(table).where(table.c.role == Role.ADMIN, table.c.is_active)
    return connection.execute(query).scalar_one()


def open_session(connection: Connection, person_id: int, digest: str, address: str, now_us: int) -> None:
    connection.execute(
        insert(tables.session).values(
            digest=digest, person_id=person_id, created_us=now_us, used_us=now_us, address=address
        )
    )
    connection.execute(update(tables.person).where(tables.person.c.id == person_id).values(signed_in_us=now_us))


def session(connection: Connection, digest: str) -> Session | None:
    """A session with its person, who must be active."""
    table = tables.session
    row = connection.execute(select(table).where(table.c.digest == digest)).first()
    if row is None:
        return None
    owner = person(connection, row.person_id)
    return Session(digest, owner, row.created_us, row.used_us) if owner.is_active else None


def note_session_use(connection: Connection, digest: str, now_us: int) -> None:
    connection.execute(update(tables.session).where(tables.session.c.digest == digest).values(used_us=now_us))


def end_session(connection: Connection, digest: str) -> None:
    connection.execute(delete(tables.session).where(tables.session.c.digest == digest))


def end_sessions(connection: Connection, person_id: int) -> int:
    """End every session of a person; how many there were."""
    return connection.execute(delete(tables.session).where(tables.session.c.person_id == person_id)).rowcount


def failures(connection: Connection, name: str) -> list[int]:
    """Times of wrong passwords for a name since the last right one."""
    table = tables.sign_in_failure
    return list(connection.execute(select(table.c.time_us).where(table.c.name == name)).scalars())


def note_failure(connection: Connection, name: str, address: str, now_us: int) -> None:
    table = tables.sign_in_failure
    connection.execute(delete(table).where(table.c.time_us < now_us - FAILURE_MEMORY_US))
    connection.execute(insert(table).values(name=name, address=address, time_us=now_us))


def forget_failures(connection: Connection, name: str) -> None:
    connection.execute(delete(tables.sign_in_failure).where(tables.sign_in_failure.c.name == name))
