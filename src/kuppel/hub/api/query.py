"""Questions to what was measured, over any window and any streams."""

from datetime import datetime
from typing import Annotated, Literal

from fastapi import APIRouter, Query
from pydantic import AwareDatetime, BaseModel, Field

from kuppel.core.difference import Difference
from kuppel.core.quantity import QUANTITIES
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Figure, HubDep, Window, WindowDep, at, column, window_between
from kuppel.hub.api.stream import StreamName
from kuppel.hub.engine import query
from kuppel.hub.engine.joined import joined_streams
from kuppel.probes.registry import kind_named

router = APIRouter(prefix="/query", tags=["query"], dependencies=[may(Access.SEE)])

StreamsQuery = Annotated[list[int], Query(min_length=1, max_length=50, description="Numbers of streams.")]
QuantityQuery = Annotated[str | None, Query(description="The main quantity of the streams if left out.")]
_STATISTIC = "min, mean, max, count, failed, or a percentile such as p95 or p99.9."


class StreamColumns(BaseModel):
    stream: int
    columns: dict[str, list[float | None]] = Field(description="By statistic; null where a slice holds nothing.")


class SlicesShape(BaseModel):
    """Columns with one unit; counts have none. Slices from summaries are whole hours or days and may reach beyond the
    window."""

    window: Window
    quantity: str
    unit: str
    starts: list[datetime]
    width_s: float
    streams: list[StreamColumns]
    method: str = Field(examples=["exact", "within 1 %"])


class RankedShape(StreamName):
    quantity: str
    figure: Figure


class TopShape(BaseModel):
    window: Window
    statistic: str
    streams: list[RankedShape]
    of: int = Field(description="How many streams there are in all.")


class ClassShape(BaseModel):
    from_: float | None = Field(alias="from", description="The first class has no lower edge.")
    to: float | None = Field(description="The last class has no upper edge.")
    count: int
    share: float | None

    model_config = {"populate_by_name": True}


class DistributionShape(BaseModel):
    window: Window
    quantity: str
    unit: str
    classes: list[ClassShape]
    count: int
    method: str


class DifferenceShape(BaseModel):
    value: float
    low: float | None = Field(description="Lower end of its 95 % interval.")
    high: float | None = Field(description="Upper end of its 95 % interval.")
    is_clear: bool = Field(description="Whether the interval lies on one side of zero.")

    @classmethod
    def of(cls, one: Difference | None) -> "DifferenceShape | None":
        return None if one is None else cls(value=one.value, low=one.low, high=one.high, is_clear=one.is_clear)


class ComparedShape(StreamName):
    now: Figure
    before: Figure
    difference: DifferenceShape | None = Field(description="Now less before; null without a sample in both.")
    from_first: DifferenceShape | None = Field(description="Its figure less that of the first stream; null for the first.")


class ComparisonShape(BaseModel):
    window: Window
    other: Window
    quantity: str
    statistic: str
    streams: list[ComparedShape]
    method: str = Field(default="Interval recovered from the two figures' own (Zou and Donner 2008)")


@router.get("/windows", summary="Statistics of streams in slices of time", responses=responses(404, 422))
def windows(
    hub: HubDep,
    window: WindowDep,
    streams: StreamsQuery,
    quantity: QuantityQuery = None,
    statistics: Annotated[list[str], Query(min_length=1, max_length=12, description=_STATISTIC)] = ["p50", "p95"],  # noqa: B006
    points: Annotated[int, Query(ge=1, le=2000, description="How many slices at most.")] = 300,
) -> SlicesShape:
    found = hub.readers.ask(query.slices, streams, quantity, window.from_us, window.to_us, points, statistics)
    return SlicesShape(
        window=window,
        quantity=found.quantity,
        unit=QUANTITIES[found.quantity].unit,
        starts=[at(int(one)) for one in found.starts_us],
        width_s=found.width_us / 1e6,
        streams=[
            StreamColumns(stream=one, columns={name: column(values) for name, values in own.items()})
            for one, own in found.streams.items()
        ],
        method=found.method,
    )


@router.get("/top", summary="The worst streams of all", responses=responses(422))
def top(
    hub: HubDep,
    window: WindowDep,
    statistic: Annotated[str, Query(description=_STATISTIC)] = "p95",
    quantity: Annotated[str | None, Query(description="The main quantity of each kind if left out.")] = None,
    kind: Annotated[str | None, Query(description="Only probes of this kind.")] = None,
    count: Annotated[int, Query(ge=1, le=500)] = 20,
    order: Literal["worst", "best"] = "worst",
) -> TopShape:
    if kind is not None:
        kind_named(kind)
    found = hub.readers.ask(
        query.top, quantity, statistic, window.from_us, window.to_us, count=count, kind=kind, is_best=order == "best"
    )
    return TopShape(
        window=window,
        statistic=statistic,
        streams=[
            RankedShape(
                **StreamName.fields(one.joined),
                quantity=one.quantity,
                figure=Figure.of(one.statistic, _unit(one.quantity, statistic)),
            )
            for one in found
        ],
        of=len(joined_streams(hub.database)),
    )


@router.get("/distribution", summary="How values spread over classes", responses=responses(404, 422))
def distribution(
    hub: HubDep,
    window: WindowDep,
    streams: StreamsQuery,
    edges: Annotated[list[float], Query(min_length=1, max_length=100, description="Edges of the classes, rising.")],
    quantity: QuantityQuery = None,
) -> DistributionShape:
    found = hub.readers.ask(query.distribution, streams, quantity, edges, window.from_us, window.to_us)
    total = int(found.counts.sum())
    bounds = [None, *found.edges.tolist(), None]
    return DistributionShape(
        window=window,
        quantity=found.quantity,
        unit=QUANTITIES[found.quantity].unit,
        classes=[
            ClassShape(from_=bounds[at], to=bounds[at + 1], count=count, share=count / total if total else None)
            for at, count in enumerate(found.counts.tolist())
        ],
        count=total,
        method=found.method,
    )


@router.get("/comparison", summary="Streams in one window against another", responses=responses(404, 422))
def comparison(
    hub: HubDep,
    window_: WindowDep,
    streams: StreamsQuery,
    other_from: Annotated[AwareDatetime | None, Query(description="Start; the window before if left out.")] = None,
    other_to: Annotated[AwareDatetime | None, Query(description="End; as long as the window if left out.")] = None,
    statistic: Annotated[str, Query(description=f"availability, {_STATISTIC}")] = "p50",
    quantity: QuantityQuery = None,
) -> ComparisonShape:
    start = other_from or window_.from_ - (window_.to - window_.from_)
    other = window_between(start, other_to or start + (window_.to - window_.from_))
    found = hub.readers.ask(
        query.comparison,
        streams,
        quantity,
        statistic,
        (window_.from_us, window_.to_us),
        (other.from_us, other.to_us),
    )
    unit = "1" if statistic == "availability" else _unit(found[0].quantity, statistic)
    return ComparisonShape(
        window=window_,
        other=other,
        quantity=found[0].quantity,
        statistic=statistic,
        streams=[
            ComparedShape(
                **StreamName.fields(one.joined),
                now=Figure.of(one.now, unit),
                before=Figure.of(one.before, unit),
                difference=DifferenceShape.of(one.difference),
                from_first=DifferenceShape.of(one.from_first),
            )
            for one in found
        ],
    )


def _unit(quantity: str, statistic: str) -> str:
    return "{run}" if statistic in ("count", "failed") else QUANTITIES[quantity].unit
