"""Coverage: what is not measured."""

import csv
import io
from datetime import datetime

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.shapes import HubDep, at_or_none
from kuppel.hub.engine import coverage as engine
from kuppel.hub.hub import Hub, now_us

router = APIRouter(tags=["coverage"], dependencies=[may(Access.SEE)])


class Named(BaseModel):
    id: int
    name: str
    note: str = Field(description="What else is known of it, in words.")


class Overdue(BaseModel):
    stream: int
    probe: str
    vantage_point: str
    target: str
    last_run: datetime | None


class NotFollowing(BaseModel):
    """A vantage point with a tag whose others run this probe."""

    vantage_point: Named
    probe: Named
    tag: str


class CoverageShape(BaseModel):
    bare_targets: list[Named] = Field(description="Targets that no enabled probe measures.")
    idle_vantage_points: list[Named] = Field(description="Vantage points that run no enabled probe.")
    overdue: list[Overdue] = Field(description="Streams whose last run is overdue.")
    not_following: list[NotFollowing]


def _shape(hub: Hub) -> CoverageShape:
    found = engine.coverage(hub.database, now_us(), round(hub.settings.delivery_s * 1e6))
    return CoverageShape(
        bare_targets=[Named(id=one.id, name=one.name, note=one.description) for one in found.bare_targets],
        idle_vantage_points=[
            Named(id=one.id, name=one.name, note=f"{one.kind}, {one.place or 'place not stated'}")
            for one in found.idle_points
        ],
        overdue=[
            Overdue(
                stream=one.stream.id,
                probe=one.probe.name,
                vantage_point=one.vantage_point.name,
                target=one.target.name,
                last_run=at_or_none(one.stream.last_run_us),
            )
            for one in found.overdue
        ],
        not_following=[
            NotFollowing(
                vantage_point=Named(id=one.vantage_point.id, name=one.vantage_point.name, note=one.vantage_point.place),
                probe=Named(id=one.probe.id, name=one.probe.name, note=one.probe.kind),
                tag=one.tag,
            )
            for one in found.not_following
        ],
    )


@router.get("/coverage", summary="What is not measured")
def coverage(hub: HubDep) -> CoverageShape:
    return _shape(hub)


@router.get("/coverage.csv", summary="What does not follow a tag's probes, as CSV", response_class=Response)
def not_following(hub: HubDep) -> Response:
    """RFC 4180: one row for each vantage point and probe."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(["vantage_point", "tag", "probe", "kind"])
    for one in _shape(hub).not_following:
        writer.writerow([one.vantage_point.name, one.tag, one.probe.name, one.probe.note])
    head = {"Content-Disposition": 'attachment; filename="not-following.csv"'}
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8", headers=head)
