"""Shapes and parameters that several routers share."""

from datetime import UTC, datetime, timedelta
from typing import Annotated

import numpy as np
from fastapi import Depends, Query, Request
from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

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


# What only looks at the request is asynchronous: a function that is not goes through a thread of its own each time.
async def the_hub(request: Request) -> Hub:
    hub: Hub = request.app.state.hub
    return hub


HubDep = Annotated[Hub, Depends(the_hub)]


class Body(BaseModel):
    """Base of what a caller sends: unknown fields are refused, so that a misspelt one is noticed."""

    model_config = ConfigDict(extra="forbid")


class Position(BaseModel):
    """Where something is (WGS 84), in degrees."""

    longitude: float = Field(ge=-180, le=180, description="East of Greenwich; west is negative.")
    latitude: float = Field(ge=-90, le=90, description="North of the equator; south is negative.")

    @classmethod
    def of(cls, longitude: float | None, latitude: float | None) -> "Position | None":
        return None if longitude is None or latitude is None else cls(longitude=longitude, latitude=latitude)


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


async def window(
    from_: Annotated[
        AwareDatetime | None, Query(alias="from", description="Start, RFC 3339; an hour before `to` if left out.")
    ] = None,
    to: Annotated[AwareDatetime | None, Query(description="End, RFC 3339; now if left out.")] = None,
) -> Window:
    """The window of a request."""
    return window_between(from_, to)


def window_between(from_: datetime | None, to: datetime | None) -> Window:
    """
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


async def against(
    from_: Annotated[
        AwareDatetime | None, Query(alias="against_from", description="Start of the window to hold it against.")
    ] = None,
    to: Annotated[
        AwareDatetime | None, Query(alias="against_to", description="End of the window to hold it against.")
    ] = None,
) -> Window | None:
    """The other window of a request, if it names one.

    Raises
    ------
    SettingsError
        when only one end is given, or it ends before it begins.
    """
    if from_ is None and to is None:
        return None
    if from_ is None or to is None:
        raise SettingsError("against_to" if to is None else "against_from", "none", "be given with the other end")
    if from_ >= to or to - from_ > timedelta(days=_LONGEST_DAYS):
        raise SettingsError("against_from", from_.isoformat(), f"lie before against_to, by at most {_LONGEST_DAYS} days")
    return Window(from_=from_, to=to)


AgainstDep = Annotated[Window | None, Depends(against)]


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
