"""The shape of one stream: what it is, over time, in figures, its runs and facts."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, Field

from kuppel.core.quantity import QUANTITIES
from kuppel.core.schedule import in_words
from kuppel.core.series import IntArray
from kuppel.core.state import State
from kuppel.core.window import Band
from kuppel.hub.api.changes import ChangeShape
from kuppel.hub.api.matrix import CellStream
from kuppel.hub.api.probes import LimitShape, limits_of
from kuppel.hub.api.run import QuantityShape, RunShape, quantities_of, stored_run
from kuppel.hub.api.shapes import Figure, Window, at, at_or_none, column
from kuppel.hub.engine import figures, usual
from kuppel.hub.engine.figures import InFigures
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.reading import Runs, StreamSeries
from kuppel.hub.engine.statistic import share_statistic
from kuppel.probes.registry import KINDS
from kuppel.store.history import StoredFact

USUAL_METHOD = "median and 1.4826 × median absolute deviation of each hour of the week, over six weeks; within 1 %"


class StreamName(BaseModel):
    """A stream, by what it joins."""

    stream: int
    vantage_point: str
    provider: str
    target: str
    probe: str
    kind: str
    kind_label: str
    state: State

    @staticmethod
    def fields(joined: Joined) -> dict[str, Any]:
        """A stream's names, for shapes that add to them."""
        cell = CellStream.of(joined)
        return {
            "stream": cell.stream,
            "vantage_point": joined.vantage_point.name,
            "provider": joined.vantage_point.provider,
            "target": joined.target.name,
            "probe": cell.probe,
            "kind": cell.kind,
            "kind_label": cell.kind_label,
            "state": cell.state,
        }


class StreamShape(StreamName):
    """A stream with what is expected of it and how it is, in words."""

    target_id: int
    vantage_point_id: int
    vantage_point_kind: str
    place: str
    peers: list[int] = Field(description="Up to five streams of the same probe: of the same provider or place first.")
    since: datetime
    last_run: datetime | None
    is_active: bool
    sentence: str = Field(description="Its state in a sentence; the reader's clock completes it with the time since when.")
    main: str
    main_label: str
    unit: str
    worse: Literal["higher", "lower"] = Field(description="Which way the main quantity is worse.")
    phases: list[str]
    interval_s: float
    schedule: str = Field(examples=["every 60 s"], description="When it runs, in words.")
    attempts: int
    limits: list[LimitShape]
    judgement_n: int
    judgement_m: int

    @classmethod
    def introduced(cls, joined: Joined, sentence: str, peers: Sequence[Joined]) -> "StreamShape":
        kind = KINDS[joined.probe.kind]
        return cls(
            **StreamName.fields(joined),
            target_id=joined.target.id,
            vantage_point_id=joined.vantage_point.id,
            vantage_point_kind=joined.vantage_point.kind,
            peers=[one.stream.id for one in peers],
            place=joined.vantage_point.place,
            since=at(joined.stream.state_since_us),
            last_run=at_or_none(joined.stream.last_run_us),
            is_active=joined.stream.is_active and joined.probe.is_enabled,
            sentence=sentence,
            main=kind.main,
            main_label=QUANTITIES[kind.main].label,
            unit=QUANTITIES[kind.main].unit,
            worse=QUANTITIES[kind.main].worse,
            phases=list(kind.phases),
            interval_s=joined.probe.interval_us / 1e6,
            schedule=in_words(joined.probe.timing),
            attempts=joined.probe.attempts,
            limits=limits_of(joined.probe),
            judgement_n=joined.probe.judgement.n,
            judgement_m=joined.probe.judgement.m,
        )


class Span(BaseModel):
    from_: datetime = Field(alias="from")
    to: datetime
    state: State

    model_config = {"populate_by_name": True}


class LevelChangeShape(BaseModel):
    """Where the medians changed their level, or their spread alone, for good (PELT)."""

    time: datetime
    what: Literal["level", "spread"]
    before: float = Field(description="Median of the stretch before it.")
    after: float


class BandShape(BaseModel):
    """A quantity in slices: percentiles per slice (null where nothing was measured), runs that were ok, runs that
    failed."""

    window: Window
    starts: list[datetime]
    width_s: float
    unit: str
    p5: list[float | None]
    p50: list[float | None]
    p95: list[float | None]
    counts: list[int]
    failed: list[int]

    @classmethod
    def of_band(cls, found: Band, failed: IntArray, unit: str, window: Window) -> "BandShape":
        return BandShape(
            window=window,
            starts=[at(one) for one in found.starts_us.tolist()],
            width_s=found.width_us / 1e6,
            unit=unit,
            p5=column(found.p5),
            p50=column(found.p50),
            p95=column(found.p95),
            counts=found.counts.tolist(),
            failed=failed.tolist(),
        )

    def columns(self) -> dict[str, Any]:
        """Its fields, for shapes that add to them."""
        return {name: getattr(self, name) for name in BandShape.model_fields}


class SeriesShape(BandShape):
    """The main quantity of a stream, with the means of its phases, its states, and where its level changed."""

    phases: dict[str, list[float | None]]
    spans: list[Span]
    changes: list[LevelChangeShape]
    is_generated: bool = Field(description="Whether any of it was made up for the demo.")

    @classmethod
    def of(cls, joined: Joined, found: StreamSeries, window: Window) -> "SeriesShape":
        return cls(
            **BandShape.of_band(found.band, found.failed, joined.main.unit, window).columns(),
            phases={name: column(values) for name, values in found.phases.items()},
            spans=[Span(from_=at(start), to=at(until), state=state) for start, until, state in found.spans],
            changes=[
                LevelChangeShape(time=at(one.time_us), what=one.what, before=one.before, after=one.after)
                for one in found.changes
            ],
            is_generated=found.is_generated,
        )


class StretchShape(BaseModel):
    """A stretch of time in figures."""

    name: str = Field(examples=["day"])
    window: Window
    p50: Figure
    p95: Figure = Field(description="The 5th percentile where less is worse.")
    answered: Figure
    change: float | None = Field(description="Change of the median against the stretch before, as a ratio.")


class FigureRow(StretchShape):
    expected: int = Field(description="Runs that the schedule makes in this time.")
    missing: int = Field(description="How many of them brought no result.")

    @classmethod
    def of_row(cls, row: figures.Figures, unit: str) -> "FigureRow":
        answered = row.answered.answered
        return cls(
            name=row.name,
            window=Window(from_=at(row.from_us), to=at(row.to_us)),
            p50=Figure.of(row.p50, unit),
            p95=Figure.of(row.p95, unit),
            answered=Figure.of(share_statistic(answered.count, answered.total, "runs"), "1"),
            expected=row.answered.expected,
            missing=row.answered.missing,
            change=row.change,
        )


class NamedFigure(BaseModel):
    name: str
    figure: Figure


class ShareUnder(BaseModel):
    name: str = Field(examples=["degraded"])
    level: float
    share: float


class NeighbourShape(StreamName):
    p50: Figure
    difference: float | None = Field(description="Its median minus this stream's.")


class FiguresShape(BaseModel):
    rows: list[FigureRow]
    values: list[float] = Field(description="Every answer of the window, sorted; an even selection when there are many.")
    count: int
    percentiles: list[NamedFigure]
    shares_under: list[ShareUnder]
    usual_phases: dict[str, float] = Field(description="Median of each phase over the window, in ms.")
    neighbours: list[NeighbourShape]

    @classmethod
    def of(cls, joined: Joined, found: InFigures) -> "FiguresShape":
        unit = joined.main.unit
        spread = found.distribution
        return cls(
            rows=[FigureRow.of_row(row, unit) for row in found.rows],
            values=[round(float(value), 4) for value in spread.values],
            count=spread.count,
            percentiles=[NamedFigure(name=name, figure=Figure.of(one, unit)) for name, one in spread.percentiles],
            shares_under=[ShareUnder(name=name, level=level, share=share) for name, level, share in spread.shares_under],
            usual_phases=found.phase_medians,
            neighbours=[
                NeighbourShape(**StreamName.fields(one.joined), p50=Figure.of(one.p50, unit), difference=one.difference)
                for one in found.neighbours
            ],
        )


class RunPage(BaseModel):
    runs: list[RunShape]
    quantities: list[QuantityShape] = Field(description="What such a run may measure, in the order of its kind.")
    next: datetime | None = Field(description="Ask with this as `to` for older runs; null when there are none.")
    failed: int = Field(description="Failed runs in the whole window.")
    total: int = Field(description="All runs in the whole window.")

    @classmethod
    def of(cls, joined: Joined, found: Runs, limit: int) -> "RunPage":
        """Of one run more than the page holds, which tells whether there are older ones."""
        shown = [stored_run(one, joined, found.facts) for one in found.runs[:limit]]
        return cls(
            runs=shown,
            quantities=quantities_of(KINDS[joined.probe.kind]),
            next=shown[-1].time if len(found.runs) > limit else None,
            failed=found.failed,
            total=found.total,
        )


class FactShape(BaseModel):
    name: str = Field(examples=["address"])
    value: str
    from_: datetime = Field(alias="from")
    to: datetime | None = Field(description="Until when it held; null while it does.")

    model_config = {"populate_by_name": True}

    @classmethod
    def within(cls, found: Sequence[StoredFact], window: Window) -> "list[FactShape]":
        """Those that held at any time of the window; they were read until its end."""
        return [
            cls(name=one.name, value=one.value, from_=at(one.from_us), to=at_or_none(one.until_us))
            for one in found
            if one.until_us is None or one.until_us > window.from_us
        ]


class UsualShape(BaseModel):
    """What is usual for the main quantity, hour by hour of a window, from the six weeks before the window's last midnight.

    `low` and `high` are two robust spreads either way of the centre, or for streams together the 5th and 95th percentile;
    null where too little is known.
    """

    quantity: str
    unit: str
    starts: list[datetime]
    centre: list[float | None]
    low: list[float | None]
    high: list[float | None]
    counts: list[int] = Field(description="How many values each hour's pattern rests on.")
    method: str

    @classmethod
    def of(cls, found: usual.Usual, quantity: str, method: str) -> "UsualShape":
        return cls(
            quantity=quantity,
            unit=QUANTITIES[quantity].unit,
            starts=[at(one) for one in found.starts_us.tolist()],
            centre=column(found.centre),
            low=column(found.low),
            high=column(found.high),
            counts=found.counts.tolist(),
            method=method,
        )


class StreamPage(BaseModel):
    """All that a stream's screen shows of a window."""

    stream: StreamShape
    series: SeriesShape
    usual: UsualShape
    figures: FiguresShape
    runs: RunPage
    facts: list[FactShape]
    changes: list[ChangeShape]
