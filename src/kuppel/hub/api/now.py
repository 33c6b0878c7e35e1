"""Now: what needs attention, in sentences, worst first."""

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from kuppel.core.attention import Scope, summary, told
from kuppel.core.duration import DAY_US
from kuppel.core.state import State
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.matrix import CellStream
from kuppel.hub.api.probes import LimitShape, limits_of
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Figure, HubDep, Window, WindowDep, at, at_or_none
from kuppel.hub.api.stream import BandShape
from kuppel.hub.engine import now as engine
from kuppel.hub.engine.now import Shown
from kuppel.hub.hub import now_us

router = APIRouter(tags=["now"], dependencies=[may(Access.SEE)])
_MOST_EXPIRING = 5


class MatterShape(BaseModel):
    """Streams in trouble that share something: not fine, or unlike themselves. It says what they share, not what is at
    fault."""

    scope: Scope = Field(description="What they share: a vantage point, a target, a provider, a probe; or a stream alone.")
    name: str
    state: State
    since: datetime | None = Field(description="Since when the first of them; null where nobody can say.")
    sentence: str
    streams: list[int] = Field(description="Those in trouble.")
    not_fine: int = Field(description="How many of them are beyond a limit, or silent.")
    of: int = Field(description="How many streams share it, fine ones too.")
    shown: CellStream = Field(description="The one that tells it best.")
    quantity: str = Field(description="What it is judged by.")
    label: str
    limits: list[LimitShape]
    figure: Figure = Field(description="The median of what it is judged by, of the last hour or its last runs.")
    usual: float | None = Field(description="What is usual for it at this hour.")
    series: BandShape | None = Field(description="That over the window; null for those beyond the first 60.")

    @classmethod
    def of_engine(cls, one: Shown, window: Window) -> "MatterShape":
        matter = one.matter
        return cls(
            scope=matter.scope,
            name=matter.name,
            state=matter.state,
            since=at_or_none(one.since_us),
            sentence=told(matter),
            streams=[each.stream_id for each in matter.streams],
            not_fine=sum(not each.is_fine for each in matter.streams),
            of=len(matter.of),
            shown=CellStream.of(one.stream),
            quantity=one.stream.judged.name,
            label=one.stream.judged.label,
            limits=limits_of(one.stream.probe),
            figure=Figure.of(one.median, one.stream.judged.unit),
            usual=one.usual,
            series=None if one.series is None else BandShape.of_band(*one.series, one.stream.judged.unit, window),
        )


class AffectedPoint(BaseModel):
    id: int
    name: str
    kind: str = Field(description="public, site, mobile or personal.")
    state: State
    is_affected: bool
    seen: datetime


class AffectedTarget(BaseModel):
    id: int
    name: str
    state: State
    is_affected: bool


class ExpiringShape(BaseModel):
    """A certificate, and when it ends."""

    target: str
    stream: int
    state: State
    expires: datetime
    days: float


class CloseShape(BaseModel):
    """A fine stream that is near its degraded limit."""

    stream: int
    vantage_point: str
    target: str
    figure: Figure
    limit: float
    share: float = Field(description="How much of the way to its limit it has gone; 1 is there.")


class NowShape(BaseModel):
    sentence: str
    matters: list[MatterShape] = Field(description="Worst first; each stream that is not fine is in one of them.")
    vantage_points: list[AffectedPoint]
    targets: list[AffectedTarget]
    expiring: list[ExpiringShape] = Field(description="What ends first, first.")
    closest: list[CloseShape] = Field(description="Fine streams that are nearest to their limits.")


@router.get("/now", summary="What needs attention now", responses=responses(422))
def now(
    hub: HubDep,
    window: WindowDep,
    points: Annotated[int, Query(ge=10, le=200, description="How many slices a small series has at most.")] = 70,
) -> NowShape:
    """As things are at this moment; the window is that of the small series alone."""
    moment_us = now_us()
    found = hub.readers.ask(engine.now, moment_us, (window.from_us, window.to_us), points)
    return NowShape(
        sentence=summary(
            [one.matter for one in found.matters],
            [group.is_affected for _, group in found.vantage_points],
            [group.is_affected for _, group in found.targets],
        ),
        matters=[MatterShape.of_engine(one, window) for one in found.matters],
        vantage_points=[
            AffectedPoint(
                id=one.id,
                name=one.name,
                kind=one.kind,
                state=group.state,
                is_affected=group.is_affected,
                seen=at(one.seen_us),
            )
            for one, group in found.vantage_points
        ],
        targets=[
            AffectedTarget(id=one.id, name=one.name, state=group.state, is_affected=group.is_affected)
            for one, group in found.targets
        ],
        expiring=[
            ExpiringShape(
                target=one.target.name,
                stream=one.stream_id,
                state=one.state,
                expires=at(one.expires_us),
                days=round((one.expires_us - moment_us) / DAY_US, 2),
            )
            for one in found.expiring[:_MOST_EXPIRING]
        ],
        closest=[
            CloseShape(
                stream=one.stream.stream.id,
                vantage_point=one.stream.vantage_point.name,
                target=one.stream.target.name,
                figure=Figure.of(one.median, one.stream.main.unit),
                limit=one.limit,
                share=round(one.share, 4),
            )
            for one in found.closest
        ],
    )
