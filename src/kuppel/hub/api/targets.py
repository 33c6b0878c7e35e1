"""Targets: what is measured."""

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep
from kuppel.store import inventory
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


@router.get("", summary="List targets")
def list_targets(hub: HubDep) -> list[TargetShape]:
    with hub.database.reading() as connection:
        return [_shape(one) for one in inventory.targets(connection)]


@router.post("", status_code=201, summary="Add a target", responses=responses(422, 429, 507))
def add_target(new: NewTarget, hub: HubDep) -> TargetShape:
    return _shape(hub.writer.write(lambda connection: inventory.add_target(connection, new.name, new.description)))


@router.put("/{target}", summary="Change a target", responses=responses(404, 422, 429, 507))
def change_target(target: int, changed: NewTarget, hub: HubDep) -> TargetShape:
    wanted = Target(target, changed.name, changed.description)
    return _shape(hub.writer.write(lambda connection: inventory.change_target(connection, wanted)))


@router.delete("/{target}", status_code=204, summary="Remove a target without probes", responses=responses(404, 422, 429))
def remove_target(target: int, hub: HubDep) -> None:
    hub.writer.write(lambda connection: inventory.remove_target(connection, target))
