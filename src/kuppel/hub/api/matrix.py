"""The matrix: every vantage point towards every target."""

from collections.abc import Sequence
from datetime import datetime
from ipaddress import ip_address, ip_network
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from kuppel.core.departure import Departure
from kuppel.core.quantity import quantity_named
from kuppel.core.state import State
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import AgainstDep, Figure, GroupSummary, HubDep, Window, WindowDep, at, at_or_none
from kuppel.hub.engine import estate
from kuppel.hub.engine.departures import Measure
from kuppel.hub.engine.joined import Joined
from kuppel.probes.registry import KINDS, kind_named

router = APIRouter(tags=["matrix"], dependencies=[may(Access.SEE)])


class MatrixRow(BaseModel):
    id: int
    name: str
    kind: str
    place: str
    provider: str
    country: str
    person: str
    subnet: str = Field(description="The network that its first address belongs to (24 or 64 bits); empty if unknown.")
    tags: list[str]
    seen: datetime
    summary: GroupSummary


class MatrixColumn(BaseModel):
    id: int
    name: str
    description: str
    is_important: bool
    summary: GroupSummary


class CellStream(BaseModel):
    """One stream of a cell."""

    stream: int
    probe: str
    kind: str
    kind_label: str
    state: State
    since: datetime
    last_run: datetime | None

    @classmethod
    def of(cls, joined: Joined) -> "CellStream":
        stream = joined.stream
        return cls(
            stream=stream.id,
            probe=joined.probe.name,
            kind=joined.probe.kind,
            kind_label=KINDS[joined.probe.kind].label,
            state=stream.state,
            since=at(stream.state_since_us),
            last_run=at_or_none(stream.last_run_us),
        )


class DepartureShape(BaseModel):
    """How far a figure lies from what it is held against; worse is positive.

    Against what is usual a time is held by its median, in spreads of single runs; a share in points. Against another window
    a figure is held by its ratio, a share in points, and what may be chance has level 0.
    """

    usual: float = Field(description="What it is held against: what is usual, or the other window's figure.")
    amount: float = Field(description="In spreads, as a ratio, or in points of a share.")
    level: int = Field(ge=-2, le=4, description="0 as ever, 1 to 4 worse, −1 and −2 better.")

    @classmethod
    def of(cls, departure: Departure | None) -> "DepartureShape | None":
        if departure is None:
            return None
        return cls(usual=round(departure.usual, 6), amount=round(departure.amount, 4), level=departure.level)


class MatrixCell(BaseModel):
    """A vantage point towards a target. `shown` is the stream whose figure stands here; `state` is the worst of all."""

    vantage_point: int
    target: int
    state: State
    shown: int | None
    figure: Figure
    departure: DepartureShape | None = Field(description="Null where nothing is known to hold it against.")
    streams: list[CellStream]


class MatrixShape(BaseModel):
    """Rows and columns in trouble first; a pair that no probe measures has no cell."""

    window: Window
    measure: Measure
    quantity: str | None = Field(description="Of what the figures are; null for each kind's main quantity.")
    rows: list[MatrixRow]
    columns: list[MatrixColumn]
    cells: list[MatrixCell]
    whole: GroupSummary


def subnet(addresses: Sequence[str]) -> str:
    """
    >>> subnet(["198.51.100.77"]), subnet(["2001:db8:1:2:3::4"]), subnet([])
    ('198.51.100.0/24', '2001:db8:1:2::/64', '')
    """
    if not addresses:
        return ""
    address = ip_address(addresses[0])
    return str(ip_network((address, 24 if address.version == 4 else 64), strict=False))


@router.get("/matrix", summary="Compare vantage points and targets", responses=responses(422))
def matrix(
    hub: HubDep,
    window: WindowDep,
    against: AgainstDep,
    measure: Annotated[Measure, Query(description="What the cells say.")] = Measure.P95,
    kind: Annotated[str | None, Query(description="Only probes of this kind.")] = None,
    quantity: Annotated[
        str | None, Query(description="Of what percentile, mean or worst are; without it, of each kind's main quantity.")
    ] = None,
) -> MatrixShape:
    if kind is not None:
        kind_named(kind)
    against_us = None if against is None else (against.from_us, against.to_us)
    if quantity is not None:
        quantity_named(quantity)
    found = hub.readers.ask(estate.matrix, window.from_us, window.to_us, measure, kind, against_us, quantity)
    return MatrixShape(
        window=window,
        measure=measure,
        quantity=quantity,
        rows=[
            MatrixRow(
                id=one.id,
                name=one.name,
                kind=one.kind,
                place=one.place,
                provider=one.provider,
                country=one.country,
                person=one.person,
                subnet=subnet(one.addresses),
                tags=list(one.tags),
                seen=at(one.seen_us),
                summary=GroupSummary.of(group),
            )
            for one, group in found.vantage_points
        ],
        columns=[
            MatrixColumn(
                id=one.id,
                name=one.name,
                description=one.description,
                is_important=one.is_important,
                summary=GroupSummary.of(group),
            )
            for one, group in found.targets
        ],
        cells=[
            MatrixCell(
                vantage_point=cell.vantage_point_id,
                target=cell.target_id,
                state=cell.state,
                shown=cell.shown.stream.id if cell.shown else None,
                figure=Figure.of(cell.statistic, cell.unit),
                departure=DepartureShape.of(cell.departure),
                streams=[CellStream.of(one) for one in cell.streams],
            )
            for cell in found.cells
        ],
        whole=GroupSummary.of(found.whole),
    )
