"""Shapes and parameters that several routers share."""

from datetime import UTC, datetime, timedelta
from typing import Annotated

import numpy as np
from fastapi import Depends, Query, Request
from pydantic import AwareDatetime, BaseModel, Field

from kuppel.core.error import SettingsError
from kuppel.core.series import FloatArray
from kuppel.core.state import GroupState, State
from kuppel.hub.engine.statistic import Statistic
from kuppel.hub.hub import Hub, now_us

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_LONGEST_DAYS = 800


def at(time_us: int) -> datetime:
    """Microseconds since 1970 as a time that is written by RFC 3339."""
    return _EPOCH + timedelta(microseconds=time_us)


def at_or_none(time_us: int | None) -> datetime | None:
    return None if time_us is None else at(time_us)


def microseconds(time: datetime) -> int:
    return (time - _EPOCH) // timedelta(microseconds=1)


def the_hub(request: Request) -> Hub:
    hub: Hub = request.app.state.hub
    return hub


HubDep = Annotated[Hub, Depends(the_hub)]


class Window(BaseModel):
    """A half-open stretch of time."""

    from_: datetime = Field(alias="from")
    to: datetime

    model_config = {"populate_by_name": True}

    @property
    def from_us(self) -> int:
        return microseconds(self.from_)

    @property
    def to_us(self) -> int:
        return microseconds(self.to)


def window(
    from_: Annotated[
        AwareDatetime | None, Query(alias="from", description="Start, RFC 3339; an hour before `to` if left out.")
    ] = None,
    to: Annotated[AwareDatetime | None, Query(description="End, RFC 3339; now if left out.")] = None,
) -> Window:
    """The window of a request.

    Raises
    ------
    SettingsError
        when it ends before it begins or is longer than anything that is kept.
    """
    end = to or at(now_us())
    start = from_ or end - timedelta(hours=1)
    if start >= end:
        raise SettingsError("from", start.isoformat(), f"lie before to, {end.isoformat()}")
    if end - start > timedelta(days=_LONGEST_DAYS):
        raise SettingsError("from", start.isoformat(), f"lie at most {_LONGEST_DAYS} days before to")
    return Window(from_=start, to=end)


WindowDep = Annotated[Window, Depends(window)]


def column(values: FloatArray) -> list[float | None]:
    """Values as JSON can say them: null for what is not there."""
    return [None if np.isnan(value) else round(float(value), 4) for value in values]


class Figure(BaseModel):
    """A statistic with its unit, 95 % interval, sample count and method. The value is null without a sample."""

    value: float | None
    unit: str
    low: float | None = Field(description="Lower end of the 95 % interval; null when the sample cannot give one.")
    high: float | None = Field(description="Upper end of the 95 % interval; null when the sample cannot give one.")
    count: int = Field(description="How many samples it is from.")
    is_few: bool = Field(description="Whether these are too few to say (under 30).")
    method: str

    @classmethod
    def of(cls, statistic: Statistic, unit: str) -> "Figure":
        return cls(
            value=statistic.value,
            unit=unit,
            low=statistic.low,
            high=statistic.high,
            count=statistic.count,
            is_few=statistic.is_few,
            method=statistic.method,
        )


class GroupSummary(BaseModel):
    """How much of a group of streams is not fine. Its state is that of its worst quarter."""

    state: State
    is_affected: bool
    not_fine: int
    streams: int

    @classmethod
    def of(cls, group: GroupState) -> "GroupSummary":
        return cls(state=group.state, is_affected=group.is_affected, not_fine=group.not_fine, streams=group.streams)
