"""The store: how much room it takes, how fast it grows, how quickly it commits."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.duration import DAY_US
from kuppel.core.storage import is_tight, room_sentence
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.shapes import HubDep, at, at_or_none
from kuppel.hub.engine import storage
from kuppel.hub.hub import now_us

router = APIRouter(prefix="/store", tags=["store"])

_LABELS = {
    "recent": ("today and yesterday, run by run", "until its day is finished"),
    "samples": ("every sample of finished days", ""),
    "details": ("what explains single runs", ""),
    "hours": ("summaries of hours", ""),
    "days": ("summaries of days", "as long as their stream is there"),
    "events": ("states, facts and changes", "as long as their stream is there"),
    "metrics": ("points and histograms of others", ""),
    "rest": ("probes, people, the record", "for good"),
    "free": ("pages that wait to be used again", ""),
}


class KeptShape(BaseModel):
    name: str = Field(examples=["samples"])
    label: str
    bytes: int
    bytes_per_day: float | None = Field(description="Mean of the last finished days, seven at most; null if not known.")
    keep_days: int | None
    kept: str = Field(description="How long it is kept, in words.", examples=["400 days"])


class CommitShape(BaseModel):
    """How long the last commits took, and what waits for the writer."""

    count: int = Field(description="Commits that these figures are of, 1,000 at most.")
    p50_ms: float | None
    p99_ms: float | None
    waiting: int = Field(description="Jobs that wait now.")


class StoreShape(BaseModel):
    engine: str = Field(examples=["SQLite 3.40.1"])
    place: str
    sentence: str = Field(description="Whether there is room, for how long.")
    is_tight: bool = Field(description="Whether the disk will be full so soon that somebody should act.")
    bytes: int
    bytes_per_day: float | None
    growth_days: int = Field(description="Of how many finished days the growth is the mean.")
    other_bytes: int | None = Field(description="What other things take of the disk.")
    disk_bytes: int | None
    free_bytes: int | None
    full: datetime | None = Field(description="When the disk will be full; null when it never will, or nobody knows.")
    rest_bytes: float | None = Field(description="What it comes to once as much goes as comes; null if not known.")
    kinds: list[KeptShape]
    oldest: datetime | None
    finished_to: datetime | None = Field(description="What was measured before is in compressed days.")
    finished_days: int
    commits: CommitShape
    measured: datetime


@router.get("", summary="How much room the store takes", dependencies=[may(Access.SEE)])
def read_store(hub: HubDep) -> StoreShape:
    now = now_us()
    found = hub.readers.ask(storage.room, hub.settings.keep, now)
    commits = hub.writer.commits()
    return StoreShape(
        engine=found.engine,
        place=hub.database.name,
        sentence=room_sentence(found.full_days, found.rest, found.free_bytes),
        is_tight=is_tight(found.full_days),
        bytes=found.whole,
        bytes_per_day=found.bytes_per_day,
        growth_days=found.growth_days,
        other_bytes=found.other_bytes,
        disk_bytes=found.disk_bytes,
        free_bytes=found.free_bytes,
        full=None if found.full_days is None or found.full_days > 36_500 else at(now + round(found.full_days * DAY_US)),
        rest_bytes=None if found.rest is None else found.rest[0],
        kinds=[
            KeptShape(
                name=one.name,
                label=_LABELS[one.name][0],
                bytes=one.bytes,
                bytes_per_day=one.bytes_per_day,
                keep_days=one.keep_days,
                kept=_LABELS[one.name][1] or ("" if one.keep_days is None else f"{one.keep_days:,} days"),
            )
            for one in found.kinds
        ],
        oldest=at_or_none(found.oldest_us),
        finished_to=at(found.horizon_us) if found.horizon_us else None,
        finished_days=found.finished_days,
        commits=CommitShape(count=commits.count, p50_ms=commits.p50_ms, p99_ms=commits.p99_ms, waiting=hub.writer.waiting),
        measured=at(now),
    )
