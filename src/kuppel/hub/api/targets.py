"""Targets: what is measured."""

import csv
import io
from typing import Annotated

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field, StringConstraints, ValidationError

from kuppel.core.error import SettingsError
from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, HubDep, Position
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import now_us
from kuppel.store import groups, inventory
from kuppel.store.database import Connection
from kuppel.store.inventory import Target

router = APIRouter(prefix="/targets", tags=["targets"])

Tag = Annotated[str, StringConstraints(min_length=1, max_length=40, pattern=r"^[^,;\s][^,;]*$", strip_whitespace=True)]
_MOST_ROWS = 5_000


class NewTarget(Body):
    """A target to add."""

    name: str = Field(min_length=1, max_length=80, examples=["booking site"])
    description: str = Field(default="", max_length=500)
    tags: list[Tag] = Field(default_factory=list, max_length=20, examples=[["harbour"]])
    service: str = Field(default="", max_length=80, description="The service that it belongs to, in words.")
    site: str = Field(default="", max_length=80, description="Where it stands, in words.")
    is_important: bool = Field(default=False, description="Whether it is looked at first.")
    position: Position | None = Field(default=None, description="Where it is on the map; null when nobody said.")


class TargetShape(NewTarget):
    id: int


class Imported(BaseModel):
    """What an import did; with any wrong row it would have done nothing."""

    added: list[str]
    changed: list[str]
    unchanged: int


def _shape(target: Target) -> TargetShape:
    return TargetShape(
        id=target.id,
        name=target.name,
        description=target.description,
        tags=list(target.tags),
        service=target.service,
        site=target.site,
        is_important=target.is_important,
        position=Position.of(target.longitude, target.latitude),
    )


def _target(new: NewTarget, target_id: int) -> Target:
    tags = tuple(dict.fromkeys(new.tags))
    where = (None, None) if new.position is None else (new.position.longitude, new.position.latitude)
    return Target(target_id, new.name, new.description, tags, new.service, new.site, new.is_important, *where)


def _told(target: Target) -> dict[str, object]:
    return _shape(target).model_dump(exclude={"id", "name"})


@router.get("", summary="List targets", dependencies=[may(Access.SEE)])
def list_targets(hub: HubDep) -> list[TargetShape]:
    with hub.database.reading() as connection:
        return [_shape(one) for one in inventory.targets(connection)]


@router.post("", status_code=201, summary="Add a target", responses=responses(422, 429, 507))
def add_target(new: NewTarget, hub: HubDep, caller: Editor) -> TargetShape:
    def job(connection: Connection) -> Changed[Target]:
        made = inventory.add_target(connection, _target(new, 0))
        return Changed(made, f"target {made.name}", None, new.model_dump())

    return _shape(change(hub.writer, caller, "added", now_us(), job))


@router.post(
    "/import",
    summary="Add and change targets from a CSV file",
    responses=responses(413, 422, 429, 507),
    openapi_extra={"requestBody": {"required": True, "content": {"text/csv": {"schema": {"type": "string"}}}}},
)
async def import_targets(request: Request, hub: HubDep, caller: Editor) -> Imported:
    """RFC 4180, with a head that names the columns: name, and any of description, service, site, tags (separated by
    semicolons), important (yes or no), longitude and latitude (degrees). A name that is known is changed in the columns
    that are there. All rows, or none."""
    rows = _rows(await request.body())

    def job(connection: Connection) -> Changed[Imported]:
        known = {one.name: one for one in inventory.targets(connection)}
        done = Imported(added=[], changed=[], unchanged=0)
        for new in rows:
            before = known.get(new.name)
            if before is None:
                inventory.add_target(connection, _target(new, 0))
                done.added.append(new.name)
                continue
            merged = _shape(before).model_dump(exclude={"id"}) | new.model_dump(exclude_unset=True)
            after = _target(NewTarget(**merged), before.id)
            if after == before:
                done.unchanged += 1
            else:
                inventory.change_target(connection, after)
                done.changed.append(new.name)
        told = {"added": done.added[:50], "changed": done.changed[:50]}
        return Changed(done, f"{len(rows)} targets", None, told)

    return change(hub.writer, caller, "imported", now_us(), job)


def _rows(body: bytes) -> list[NewTarget]:
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise SettingsError("file", "its octets", "be text in UTF-8") from None
    reader = csv.DictReader(io.StringIO(text, newline=""))
    columns = {(name or "").strip().lower() for name in reader.fieldnames or []}
    wanted = {"name", "description", "service", "site", "tags", "important", "longitude", "latitude"}
    if "name" not in columns or not columns <= wanted:
        told = ", ".join(sorted(columns - wanted)) or "no column name"
        raise SettingsError("file", told, f"have a head with name and any of {', '.join(sorted(wanted - {'name'}))}")
    found: list[NewTarget] = []
    seen: set[str] = set()
    for row in reader:
        number = reader.line_num
        if len(found) >= _MOST_ROWS:
            raise SettingsError("file", f"more than {_MOST_ROWS:,} rows", "be cut into smaller ones")
        if None in row:
            raise SettingsError(f"row {number}", "more fields than the head", "have one field for each column")
        new = _row(number, {(name or "").strip().lower(): (value or "").strip() for name, value in row.items()})
        if new.name in seen:
            raise SettingsError(f"row {number}", new.name, "have a name of its own: the same is there before")
        seen.add(new.name)
        found.append(new)
    return found


def _row(number: int, row: dict[str, str]) -> NewTarget:
    values: dict[str, object] = {name: row[name] for name in ("name", "description", "service", "site") if name in row}
    if "tags" in row:
        values["tags"] = [one.strip() for one in row["tags"].split(";") if one.strip()]
    if "important" in row:
        said = row["important"].lower()
        if said not in ("", "yes", "no"):
            raise SettingsError(f"row {number}, important", row["important"], "be yes or no")
        values["is_important"] = said == "yes"
    where = {name: row[name] for name in ("longitude", "latitude") if name in row}
    if where:
        values["position"] = where if any(where.values()) else None
    try:
        return NewTarget.model_validate(values)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        field = ".".join(str(part) for part in first["loc"])
        raise SettingsError(f"row {number}, {field}", first.get("input"), f"be mended: {first['msg'].lower()}") from None


@router.put("/{target}", summary="Change a target", responses=responses(404, 422, 429, 507))
def change_target(target: int, changed: NewTarget, hub: HubDep, caller: Editor) -> TargetShape:
    def job(connection: Connection) -> Changed[Target]:
        before = inventory.target(connection, target)
        after = inventory.change_target(connection, _target(changed, target))
        told = {"name": before.name} | _told(before)
        return Changed(after, f"target {after.name}", told, {"name": after.name} | _told(after))

    return _shape(change(hub.writer, caller, "changed", now_us(), job))


@router.delete("/{target}", status_code=204, summary="Remove a target without probes", responses=responses(404, 422, 429))
def remove_target(target: int, hub: HubDep, caller: Editor) -> None:
    def job(connection: Connection) -> Changed[None]:
        before = inventory.target(connection, target)
        inventory.remove_target(connection, target)
        groups.forget_member(connection, "target", target)
        return Changed(None, f"target {before.name}", _told(before), None)

    change(hub.writer, caller, "removed", now_us(), job)
