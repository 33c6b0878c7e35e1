"""The matrix: every vantage point towards every target."""

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from kuppel.core.sentence import estate_sentence
from kuppel.core.state import State
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Figure, GroupSummary, HubDep, Window, WindowDep, at, at_or_none
from kuppel.hub.engine import estate
from kuppel.hub.engine.estate import Measure
from kuppel.hub.engine.joined import Joined
from kuppel.probes.registry import KINDS, kind_named

router = APIRouter(tags=["matrix"], dependencies=[may(Access.SEE)])


class MatrixRow(BaseModel):
    id: int
    name: str
    kind: str
    place: str
    provider: str
    seen: datetime
    summary: GroupSummary


class MatrixColumn(BaseModel):
    id: int
    name: str
    description: str
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


class MatrixCell(BaseModel):
    """A vantage point towards a target. `shown` is the stream whose figure stands here; `state` is the worst of all."""

    vantage_point: int
    target: int
    state: State
    shown: int | None
    figure: Figure
    streams: list[CellStream]


class MatrixShape(BaseModel):
    """Rows and columns in trouble first; a pair that no probe measures has no cell."""

    window: Window
    measure: Measure
    rows: list[MatrixRow]
    columns: list[MatrixColumn]
    cells: list[MatrixCell]
    whole: GroupSummary
    sentence: str = Field(description="Who is affected and what is fine.")


@router.get("/matrix", summary="Compare vantage points and targets", responses=responses(422))
def matrix(
    hub: HubDep,
    window: WindowDep,
    measure: Annotated[Measure, Query(description="What the cells say.")] = Measure.P95,
    kind: Annotated[str | None, Query(description="Only probes of this kind.")] = None,
) -> MatrixShape:
    if kind is not None:
        kind_named(kind)
    found = hub.readers.ask(estate.matrix, window.from_us, window.to_us, measure, kind)
    return MatrixShape(
        window=window,
        measure=measure,
        rows=[
            MatrixRow(
                id=one.id,
                name=one.name,
                kind=one.kind,
                place=one.place,
                provider=one.provider,
                seen=at(one.seen_us),
                summary=GroupSummary.of(group),
            )
            for one, group in found.vantage_points
        ],
        columns=[
            MatrixColumn(id=one.id, name=one.name, description=one.description, summary=GroupSummary.of(group))
            for one, group in found.targets
        ],
        cells=[
            MatrixCell(
                vantage_point=cell.vantage_point_id,
                target=cell.target_id,
                state=cell.state,
                shown=cell.shown.stream.id if cell.shown else None,
                figure=Figure.of(cell.statistic, cell.unit),
                streams=[CellStream.of(one) for one in cell.streams],
            )
            for cell in found.cells
        ],
        whole=GroupSummary.of(found.whole),
        sentence=estate_sentence(
            {one.name: group.state for one, group in found.vantage_points},
            {one.name: group.state for one, group in found.targets},
        ),
    )
