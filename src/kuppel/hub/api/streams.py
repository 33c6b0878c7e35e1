"""Streams: one probe from one vantage point."""

from typing import Annotated

from fastapi import APIRouter, Query

from kuppel.hub.api.changes import ChangeShape
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, WindowDep
from kuppel.hub.api.stream import (
    USUAL_METHOD,
    FactShape,
    FiguresShape,
    RunPage,
    SeriesShape,
    StreamName,
    StreamPage,
    StreamShape,
    UsualShape,
)
from kuppel.hub.engine import figures, reading, usual
from kuppel.hub.engine.joined import joined_stream, joined_streams
from kuppel.hub.engine.page import page
from kuppel.store import history

router = APIRouter(prefix="/streams", tags=["streams"], dependencies=[may(Access.SEE)])
Points = Annotated[int, Query(ge=10, le=2000, description="How many slices at most.")]


@router.get("", summary="List streams")
def list_streams(hub: HubDep) -> list[StreamName]:
    return [StreamName(**StreamName.fields(one)) for one in joined_streams(hub.database)]


@router.get("/{stream}", summary="Read a stream", responses=responses(404, 422))
def read_stream(stream: int, hub: HubDep, window: WindowDep) -> StreamShape:
    joined = joined_stream(hub.database, stream)
    found = hub.readers.ask(reading.introduced, joined, window.from_us, window.to_us)
    return StreamShape.introduced(joined, *found)


@router.get("/{stream}/page", summary="All of a stream's screen at once", responses=responses(404, 422))
def read_page(
    stream: int,
    hub: HubDep,
    window: WindowDep,
    points: Points = 300,
    runs: Annotated[int, Query(ge=1, le=200, description="How many of the newest runs.")] = 12,
) -> StreamPage:
    joined = joined_stream(hub.database, stream)
    found = hub.readers.ask(page, joined, window.from_us, window.to_us, points, runs + 1)
    return StreamPage(
        stream=StreamShape.introduced(joined, found.sentence, found.peers),
        series=SeriesShape.of(joined, found.series, window),
        usual=UsualShape.of(found.usual, joined.main.name, USUAL_METHOD),
        figures=FiguresShape.of(joined, found.figures),
        runs=RunPage.of(joined, found.runs, runs),
        facts=FactShape.within(found.runs.facts, window),
        changes=[ChangeShape.of(one) for one in found.changes],
    )


@router.get("/{stream}/usual", summary="What is usual for a stream", responses=responses(404, 422))
def read_usual(stream: int, hub: HubDep, window: WindowDep) -> UsualShape:
    joined = joined_stream(hub.database, stream)
    found = hub.readers.ask(usual.usual, joined, window.from_us, window.to_us)
    return UsualShape.of(found, joined.main.name, USUAL_METHOD)


@router.get("/{stream}/series", summary="A stream over time", responses=responses(404, 422))
def read_series(
    stream: int,
    hub: HubDep,
    window: WindowDep,
    points: Points = 300,
) -> SeriesShape:
    joined = joined_stream(hub.database, stream)
    found = hub.readers.ask(reading.series, joined, window.from_us, window.to_us, points)
    return SeriesShape.of(joined, found, window)


@router.get("/{stream}/figures", summary="A stream in figures", responses=responses(404, 422))
def read_figures(stream: int, hub: HubDep, window: WindowDep) -> FiguresShape:
    joined = joined_stream(hub.database, stream)
    return FiguresShape.of(joined, hub.readers.ask(figures.figures, joined, window.from_us, window.to_us))


@router.get("/{stream}/runs", summary="Runs of a stream, newest first", responses=responses(404, 422))
def read_runs(
    stream: int,
    hub: HubDep,
    window: WindowDep,
    only: Annotated[str, Query(pattern="^(all|failed)$", description="all or failed.")] = "all",
    limit: Annotated[int, Query(ge=1, le=200)] = 20,
) -> RunPage:
    joined = joined_stream(hub.database, stream)
    only_failed = only == "failed"
    found = hub.readers.ask(reading.runs, joined, window.from_us, window.to_us, limit + 1, is_failed_only=only_failed)
    return RunPage.of(joined, found, limit)


@router.get("/{stream}/facts", summary="Facts of a stream and when they changed", responses=responses(404, 422))
def read_facts(stream: int, hub: HubDep, window: WindowDep) -> list[FactShape]:
    joined_stream(hub.database, stream)
    with hub.database.reading() as connection:
        found = history.facts(connection, stream, window.to_us)
    return FactShape.within(found, window)
