"""Groups, targets, vantage points and everything in figures."""

from collections.abc import Sequence
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Query
from pydantic import BaseModel, Field

from kuppel.core.answer_class import AnswerClass
from kuppel.core.error import SettingsError
from kuppel.core.quantity import QUANTITIES
from kuppel.core.series import IntArray
from kuppel.core.state import group_state
from kuppel.hub.api.changes import ChangeShape
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.matrix import DepartureShape
from kuppel.hub.api.problem import responses
from kuppel.hub.api.run import words
from kuppel.hub.api.shapes import Figure, GroupSummary, HubDep, Position, Window, WindowDep, at, column
from kuppel.hub.api.stream import BandShape, NamedFigure, StreamName, StretchShape, UsualShape
from kuppel.hub.engine import overview as engine
from kuppel.hub.engine import usual
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.pool import pooled_series
from kuppel.hub.engine.selection import Selection, SelectionKind, selected
from kuppel.probes.registry import KINDS, kind_named
from kuppel.store import changes, inventory

router = APIRouter(prefix="/overview", tags=["overview"], dependencies=[may(Access.SEE)])
_MOST_CHANGES = 60


async def selection(
    of: Annotated[SelectionKind, Query(description="What it is of.")] = "all",
    number: Annotated[int, Query(alias="id", ge=0, description="The group's, target's or vantage point's; 0 for all.")] = 0,
) -> Selection:
    return Selection(of, number)


async def kind(
    name: Annotated[str | None, Query(alias="kind", description="Only probes of this kind.")] = None,
) -> str | None:
    return None if name is None else kind_named(name).name


SelectionDep = Annotated[Selection, Depends(selection)]
KindDep = Annotated[str | None, Depends(kind)]


class KindCount(BaseModel):
    kind: str
    label: str
    streams: int


class ClassesShape(BaseModel):
    """Runs by class of answer, best first: inside the clearing limit, inside the degraded one, degraded, breached,
    failed."""

    clear: int
    within: int
    degraded: int
    breached: int
    failed: int

    @classmethod
    def of(cls, counts: IntArray) -> "ClassesShape":
        return cls(**{one.name.lower(): int(counts[one]) for one in AnswerClass})


class TargetClassShape(BaseModel):
    id: int
    name: str
    counts: ClassesShape
    answer: str | None = Field(description="The best class that holds 95 % of its runs, with those that are better.")


class OverviewMember(StreamName):
    target_id: int
    vantage_point_id: int
    unit: str
    quantity: str
    p50: Figure
    mean: float | None
    most: float | None
    answered: Figure
    departure: DepartureShape | None
    counts: ClassesShape | None = Field(description="Its runs by class of answer; null without a limit, or of other kinds.")


class OverviewShape(BaseModel):
    name: str
    description: str
    window: Window
    kind: str | None = Field(description="The kind of probe that the figures are of.")
    kinds: list[KindCount]
    quantity: str | None
    unit: str
    whole: GroupSummary
    rows: list[StretchShape]
    percentiles: list[NamedFigure]
    targets: list[TargetClassShape]
    unlimited: int = Field(description="Streams of this kind without a limit, which are in no class.")
    members: list[OverviewMember]
    phases: dict[str, float] = Field(description="Mean of each phase in the window, in ms.")
    bare: list[str] = Field(description="Vantage points that measure nothing of it, or targets that this one does not.")


class PointShape(BaseModel):
    id: int
    name: str
    kind: str
    place: str
    town: str = Field(description="The last part of its place: what those that stand there have in common.")
    provider: str
    position: Position | None
    seen: datetime
    summary: GroupSummary
    streams: list[int]
    window: Figure
    day: Figure
    week: Figure
    month: Figure


class TargetPlace(BaseModel):
    id: int
    name: str
    position: Position | None
    summary: GroupSummary


class PointsShape(BaseModel):
    window: Window
    kind: str | None
    quantity: str | None
    unit: str
    points: list[PointShape]
    targets: list[TargetPlace]


class PooledSeriesShape(BandShape):
    """Streams of one kind together."""

    method: str


class FailedRunShape(StreamName):
    time: datetime
    reason: str
    words: str
    note: str


def _unit(name: str | None) -> tuple[str | None, str]:
    """The main quantity of a kind, and its unit."""
    if name is None:
        return None, ""
    main = KINDS[name].main
    return main, QUANTITIES[main].unit


@router.get("", summary="A group, target or vantage point in figures", responses=responses(404, 422))
def overview(hub: HubDep, window: WindowDep, of: SelectionDep, wanted: KindDep) -> OverviewShape:
    found = hub.readers.ask(engine.overview, of, wanted, window.from_us, window.to_us)
    quantity, unit = _unit(found.kind)
    counts = {one.joined.stream.id: one.counts for one in found.classes}
    return OverviewShape(
        name=found.selected.name,
        description=found.selected.description,
        window=window,
        kind=found.kind,
        kinds=[KindCount(kind=name, label=KINDS[name].label, streams=count) for name, count in found.kinds],
        quantity=quantity,
        unit=unit,
        whole=GroupSummary.of(found.whole),
        rows=[
            StretchShape(
                name=row.name,
                window=Window(from_=at(row.from_us), to=at(row.to_us)),
                p50=Figure.of(row.p50, unit),
                p95=Figure.of(row.p95, unit),
                answered=Figure.of(row.answered, "1"),
                change=row.change,
            )
            for row in found.rows
        ],
        percentiles=[NamedFigure(name=name, figure=Figure.of(one, unit)) for name, one in found.percentiles],
        targets=[
            TargetClassShape(
                id=one.target_id,
                name=one.name,
                counts=ClassesShape.of(one.counts),
                answer=None if one.found is None else one.found.name.lower(),
            )
            for one in found.targets
        ],
        unlimited=found.unlimited,
        members=[
            OverviewMember(
                **StreamName.fields(one.joined),
                target_id=one.joined.target.id,
                vantage_point_id=one.joined.vantage_point.id,
                unit=_unit(one.joined.probe.kind)[1],
                quantity=KINDS[one.joined.probe.kind].main,
                p50=Figure.of(one.p50, _unit(one.joined.probe.kind)[1]),
                mean=one.mean,
                most=one.most,
                answered=Figure.of(one.answered, "1"),
                departure=DepartureShape.of(one.departure),
                counts=ClassesShape.of(counts[one.joined.stream.id]) if one.joined.stream.id in counts else None,
            )
            for one in found.members
        ],
        phases=found.phases,
        bare=_bare(hub, of, found.selected.streams),
    )


def _bare(hub: HubDep, of: Selection, streams: Sequence[Joined]) -> list[str]:
    with hub.database.reading() as connection:
        if of.kind == "vantage_point":
            reached = {one.target.id for one in streams}
            return [one.name for one in inventory.targets(connection) if one.id not in reached]
        measuring = {one.vantage_point.id for one in streams}
        return [one.name for one in inventory.vantage_points(connection) if one.id not in measuring]


@router.get("/points", summary="Vantage points over day, week and month", responses=responses(404, 422))
def points(
    hub: HubDep,
    window: WindowDep,
    of: SelectionDep,
    wanted: KindDep,
    target: Annotated[int | None, Query(description="Only towards this target.")] = None,
) -> PointsShape:
    found, chosen = hub.readers.ask(engine.points, of, wanted, target, window.from_us, window.to_us)
    quantity, unit = _unit(chosen)
    streams = selected(hub.database, of).streams
    own: dict[int, list[Joined]] = {}
    for each in streams:
        own.setdefault(each.target.id, []).append(each)
    return PointsShape(
        window=window,
        kind=chosen,
        quantity=quantity,
        unit=unit,
        points=[
            PointShape(
                id=one.vantage_point.id,
                name=one.vantage_point.name,
                kind=one.vantage_point.kind,
                place=one.vantage_point.place,
                town=one.vantage_point.place.rsplit(",", 1)[-1].strip(),
                provider=one.vantage_point.provider,
                position=Position.of(one.vantage_point.longitude, one.vantage_point.latitude),
                seen=at(one.vantage_point.seen_us),
                summary=GroupSummary.of(one.group),
                streams=[each.stream.id for each in one.streams],
                **{name: Figure.of(figure, unit) for name, figure in one.medians.items()},
            )
            for one in found
        ],
        targets=[
            TargetPlace(
                id=target_id,
                name=its[0].target.name,
                position=Position.of(its[0].target.longitude, its[0].target.latitude),
                summary=GroupSummary.of(group_state(one.stream.state for one in its)),
            )
            for target_id, its in sorted(
                own.items(), key=lambda one: (not one[1][0].target.is_important, one[1][0].target.name)
            )
        ],
    )


def _of_kind(hub: HubDep, of: Selection, wanted: str | None) -> list[Joined]:
    """
    Raises
    ------
    SettingsError
        when nothing of that kind measures it.
    """
    streams = [one for one in selected(hub.database, of).streams if one.probe.kind == wanted]
    if not streams:
        raise SettingsError("kind", str(wanted), "be a kind of probe that measures it")
    return streams


@router.get("/series", summary="A group, target or vantage point over time", responses=responses(404, 422))
def series(
    hub: HubDep,
    window: WindowDep,
    of: SelectionDep,
    wanted: KindDep,
    slices: Annotated[int, Query(ge=10, le=1000, description="How many slices at most.", alias="points")] = 200,
) -> PooledSeriesShape:
    streams = _of_kind(hub, of, wanted)
    found = hub.readers.ask(pooled_series, streams, window.from_us, window.to_us, slices)
    columns = found.columns
    return PooledSeriesShape(
        window=window,
        starts=[at(int(one)) for one in found.starts_us],
        width_s=found.width_us / 1e6,
        unit=_unit(wanted)[1],
        p5=column(columns["p5"]),
        p50=column(columns["p50"]),
        p95=column(columns["p95"]),
        counts=columns["count"].astype(int).tolist(),
        failed=columns["failed"].astype(int).tolist(),
        method=found.method,
    )


@router.get("/usual", summary="What is usual for a group, target or vantage point", responses=responses(404, 422))
def read_usual(hub: HubDep, window: WindowDep, of: SelectionDep, wanted: KindDep) -> UsualShape:
    streams = _of_kind(hub, of, wanted)
    found = hub.readers.ask(usual.usual_together, streams, window.from_us, window.to_us)
    return UsualShape.of(
        found,
        streams[0].main.name,
        "5th percentile, median and 95th percentile of all runs at each hour of the week, each the median of six weeks;"
        " within 1 %",
    )


@router.get("/failed", summary="The newest failed runs", responses=responses(404, 422))
def failed(hub: HubDep, window: WindowDep, of: SelectionDep) -> list[FailedRunShape]:
    found = hub.readers.ask(engine.failed_runs, of, window.from_us, window.to_us)
    return [
        FailedRunShape(
            **StreamName.fields(joined),
            time=at(run.time_us),
            reason=run.reason or "",
            words=words(run.reason),
            note=str(run.attempts[-1]["note"]) if run.attempts else "",
        )
        for joined, run in found
    ]


@router.get("/changes", summary="What changed for it", responses=responses(404, 422))
def list_changes(hub: HubDep, window: WindowDep, of: SelectionDep) -> list[ChangeShape]:
    """Newest first: what concerns its targets, vantage points and streams, and everything."""
    streams = selected(hub.database, of).streams
    ids = {one.stream.id for one in streams}
    targets, its_points = {one.target.id for one in streams}, {one.vantage_point.id for one in streams}
    with hub.database.reading() as connection:
        found = changes.changes(connection, window.from_us, window.to_us, limit=2000)
    return [
        ChangeShape.of(one)
        for one in found
        if (one.stream_id is None or one.stream_id in ids)
        and (one.target_id is None or one.target_id in targets)
        and (one.vantage_point_id is None or one.vantage_point_id in its_points)
    ][:_MOST_CHANGES]
