"""Room: how much the store takes, what it will take, and whether the disk is large enough."""

import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from kuppel.core.duration import DAY_US
from kuppel.core.storage import Growth, at_rest, days_until_full
from kuppel.store import sizes
from kuppel.store.compaction import Keep
from kuppel.store.database import Database


@dataclass(frozen=True, slots=True)
class Kept:
    """One kind of what is kept. `keep_days` is None for what is never removed."""

    name: str
    bytes: int
    bytes_per_day: float | None
    keep_days: int | None


@dataclass(frozen=True, slots=True)
class Room:
    """`full_days` is None when the disk is large enough for all that will be kept, or nothing is known of its growth.
    `rest` is what the store comes to once as much goes as comes, and the bytes a day by which it then goes on growing."""

    engine: str
    kinds: list[Kept]
    whole: int
    bytes_per_day: float | None
    free_bytes: int | None
    disk_bytes: int | None
    full_days: float | None
    rest: tuple[float, float] | None
    finished_days: int
    growth_days: int
    oldest_us: int | None
    horizon_us: int

    @property
    def other_bytes(self) -> int | None:
        """What other things take of the disk."""
        if self.disk_bytes is None or self.free_bytes is None:
            return None
        return max(0, self.disk_bytes - self.free_bytes - self.whole)


def room(database: Database, keep: Keep, now_us: int) -> Room:
    with database.reading() as connection:
        found = sizes.sizes(connection)
        engine = database.engine(connection)
    ages = {
        sizes.SAMPLES: keep.samples_us,
        sizes.DETAILS: keep.details_us,
        sizes.HOURS: keep.summaries_us,
        sizes.DAYS: None,
        sizes.METRICS: keep.samples_us,
    }
    age_us = 0 if found.oldest_us is None else now_us - found.oldest_us
    per_day: dict[str, float | None] = {**found.per_day}
    # A table that holds nearly nothing still takes a page: what it grows by is only known after some days.
    if found.finished_days >= sizes.GROWTH_DAYS:
        for kind in (sizes.EVENTS, sizes.METRICS):
            per_day[kind] = found.by_kind[kind] / (age_us / DAY_US)
    kinds = [Kept(name, size, per_day.get(name), _days(ages.get(name))) for name, size in found.by_kind.items()]
    growths = _growths(per_day, ages, age_us)
    disk = shutil.disk_usage(database.place.parent) if isinstance(database.place, Path) else None
    free = None if disk is None else disk.free
    more, lasting = at_rest(growths)
    growing = sum(one.bytes_per_day for one in growths if one.days_left is None or one.days_left > 0)
    is_known = bool(found.per_day)
    return Room(
        engine=engine,
        kinds=kinds,
        whole=found.whole,
        bytes_per_day=growing if is_known else None,
        free_bytes=free,
        disk_bytes=None if disk is None else disk.total,
        full_days=days_until_full(free + found.by_kind[sizes.FREE], growths) if is_known and free is not None else None,
        rest=(found.whole - found.by_kind[sizes.FREE] + more, lasting) if is_known else None,
        finished_days=found.finished_days,
        growth_days=min(found.finished_days, sizes.GROWTH_DAYS),
        oldest_us=found.oldest_us,
        horizon_us=found.horizon_us,
    )


def _growths(per_day: Mapping[str, float | None], ages: Mapping[str, int | None], age_us: int) -> list[Growth]:
    found = []
    for kind, rate in per_day.items():
        kept_us = ages.get(kind)
        left = None if kept_us is None else max(0.0, (kept_us - age_us) / DAY_US)
        found.append(Growth(rate or 0.0, left))
    return found


def _days(kept_us: int | None) -> int | None:
    return None if kept_us is None else kept_us // DAY_US
