"""People: who may sign in, and as what. For admins."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.access import Role
from kuppel.hub.api.guard import Access, Admin, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, HubDep, at, at_or_none
from kuppel.hub.engine import passwords
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import now_us
from kuppel.store import people
from kuppel.store.database import Connection
from kuppel.store.people import Person

router = APIRouter(prefix="/people", tags=["people"])


class ChangedPerson(Body):
    full_name: str = Field(min_length=1, max_length=80, examples=["Tobias R."])
    role: Role
    is_active: bool = Field(default=True, description="Somebody who is not cannot sign in; what they did stays recorded.")


class NewPerson(Body):
    name: str = Field(
        min_length=2, max_length=80, pattern=r"^[\w.@+-]+$", examples=["tobias"], description="To sign in with."
    )
    full_name: str = Field(min_length=1, max_length=80, examples=["Tobias R."])
    role: Role


class PersonShape(ChangedPerson):
    id: int
    name: str
    must_change: bool = Field(description="Has a one-time password that was not replaced yet.")
    created: datetime
    signed_in: datetime | None = Field(description="When last.")

    @classmethod
    def of(cls, person: Person) -> "PersonShape":
        return cls(
            id=person.id,
            name=person.name,
            full_name=person.full_name,
            role=person.role,
            is_active=person.is_active,
            must_change=person.must_change,
            created=at(person.created_us),
            signed_in=at_or_none(person.signed_in_us),
        )


class PersonWithPassword(BaseModel):
    """A person with a one-time password, shown this once."""

    person: PersonShape
    password: str = Field(examples=["k7fm-2hqz-…"])


def _told(person: Person) -> dict[str, object]:
    return {"full_name": person.full_name, "role": person.role, "is_active": person.is_active}


@router.get("", summary="List people", dependencies=[may(Access.ADMINISTER)])
def list_people(hub: HubDep) -> list[PersonShape]:
    with hub.database.reading() as connection:
        return [PersonShape.of(one) for one in people.people(connection)]


@router.post("", status_code=201, summary="Add a person", responses=responses(422, 429))
def add_person(new: NewPerson, hub: HubDep, caller: Admin) -> PersonWithPassword:
    """Answers with a one-time password to pass on; it must be replaced at the first sign-in."""
    password = passwords.one_time_password()
    made = passwords.hashed(password)

    def job(connection: Connection) -> Changed[Person]:
        who = people.add_person(connection, new.name, new.full_name, new.role, made, now_us(), must_change=True)
        return Changed(who, f"person {who.name}", None, _told(who))

    person = change(hub.writer, caller, "added", now_us(), job)
    return PersonWithPassword(person=PersonShape.of(person), password=password)


@router.put("/{person}", summary="Change what a person may do", responses=responses(404, 422, 429))
def change_person(person: int, wanted: ChangedPerson, hub: HubDep, caller: Admin) -> PersonShape:
    """A change of role, or shutting out, ends every session of that person at once."""

    def job(connection: Connection) -> Changed[Person]:
        before = people.person(connection, person)
        after = people.change_person(connection, person, wanted.full_name, wanted.role, is_active=wanted.is_active)
        return Changed(after, f"person {after.name}", _told(before), _told(after))

    return PersonShape.of(change(hub.writer, caller, "changed", now_us(), job))


@router.post("/{person}/password", summary="Give a person a one-time password", responses=responses(404, 429))
def reset_password(person: int, hub: HubDep, caller: Admin) -> PersonWithPassword:
    """The old password and every session of that person end at once."""
    password = passwords.one_time_password()
    made = passwords.hashed(password)

    def job(connection: Connection) -> Changed[Person]:
        people.set_password(connection, person, made, must_change=True)
        who = people.person(connection, person)
        return Changed(who, f"person {who.name}")

    who = change(hub.writer, caller, "reset the password of", now_us(), job)
    return PersonWithPassword(person=PersonShape.of(who), password=password)
