"""Targets: what is measured."""

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import now_us
from kuppel.store import inventory
from kuppel.store.database import Connection
from kuppel.store.inventory import Target

router = APIRouter(prefix="/targets", tags=["targets"])


class NewTarget(BaseModel):
    """A target to add."""

    name: str = Field(min_length=1, max_length=80, examples=["booking site"])
    description: str = Field(default="", max_length=500)


class TargetShape(NewTarget):
    id: int


def _shape(target: Target) -> TargetShape:
    return TargetShape(id=target.id, name=target.name, description=target.description)


@router.get("", summary="List targets", dependencies=[may(Access.SEE)])
def list_targets(hub: HubDep) -> list[TargetShape]:
    with hub.database.reading() as connection:
        return [_shape(one) for one in inventory.targets(connection)]


@router.post("", status_code=201, summary="Add a target", responses=responses(422, 429, 507))
def add_target(new: NewTarget, hub: HubDep, caller: Editor) -> TargetShape:
    def job(connection: Connection) -> Changed[Target]:
        made = inventory.add_target(connection, new.name, new.description)
        return Changed(made, f"target {made.name}", None, new.model_dump())

    return _shape(change(hub.writer, caller, "added", now_us(), job))


@router.put("/{target}", summary="Change a target", responses=responses(404, 422, 429, 507))
def change_target(target: int, changed: NewTarget, hub: HubDep, caller: Editor) -> TargetShape:
    def job(connection: Connection) -> Changed[Target]:
        before = inventory.target(connection, target)
        after = inventory.change_target(connection, Target(target, changed.name, changed.description))
        told = {"name": before.name, "description": before.description}
        return Changed(after, f"target {after.name}", told, changed.model_dump())

    return _shape(change(hub.writer, caller, "changed", now_us(), job))


@router.delete("/{target}", status_code=204, summary="Remove a target without probes", responses=responses(404, 422, 429))
def remove_target(target: int, hub: HubDep, caller: Editor) -> None:
    def job(connection: Connection) -> Changed[None]:
        before = inventory.target(connection, target)
        inventory.remove_target(connection, target)
        return Changed(None, f"target {before.name}", {"description": before.description}, None)

    change(hub.writer, caller, "removed", now_us(), job)
