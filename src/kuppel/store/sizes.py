"""How much room what takes, and how fast it grows."""

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy import Connection, func, select

from kuppel.core.duration import DAY_US
from kuppel.store import days, history, tables
from kuppel.store.dialect import is_sqlite

# Growth is the mean of so many of the newest finished days.
GROWTH_DAYS = 7
# What a row takes beside its payload, and what pages leave unused (measured on blocks of 1 to 2 KB).
_ROW_BYTES, _PAGES = 12, 1.03
_SUMMARY_BYTES = 45

RECENT, SAMPLES, DETAILS, HOURS, DAYS, EVENTS, METRICS, REST, FREE = (
    "recent", "samples", "details", "hours", "days", "events", "metrics", "rest", "free",
)  # fmt: skip
_OF_TABLE = {
    "run": RECENT,
    "sample": RECENT,
    "block": SAMPLES,
    "hour_summaries": HOURS,
    "day_summary": DAYS,
    "fact": EVENTS,
    "state_change": EVENTS,
    "change": EVENTS,
    "position": EVENTS,
    "metric_point": METRICS,
    "metric_histogram": METRICS,
}


@dataclass(frozen=True, slots=True)
class Sizes:
    """Bytes by kind, and bytes a day by the kinds of finished days; when what is kept begins, and the horizon."""

    whole: int
    by_kind: Mapping[str, int]
    per_day: Mapping[str, float]
    finished_days: int
    oldest_us: int | None
    horizon_us: int


def sizes(connection: Connection) -> Sizes:
    """Reads the whole structure of the database: some tenths of a second for each gigabyte."""
    horizon_us = days.horizon(connection)
    oldest_us, _ = history.span(connection)
    first_us = days.first_day(connection)
    finished = 0 if first_us is None else max(0, (horizon_us - first_us) // DAY_US)
    per_day = _growth(connection, horizon_us, min(finished, GROWTH_DAYS))
    by_kind = dict.fromkeys((RECENT, SAMPLES, DETAILS, HOURS, DAYS, EVENTS, METRICS, REST), 0)
    for name, size in table_sizes(connection):
        by_kind[_OF_TABLE.get(name, REST)] += size
    # Details lie among the blocks; told apart by how much of each new day they are.
    kept = _days_with(connection, days.BODIES, horizon_us, finished)
    by_kind[DETAILS] = min(by_kind[SAMPLES], round(per_day.get(DETAILS, 0.0) * kept))
    by_kind[SAMPLES] -= by_kind[DETAILS]
    by_kind[FREE] = _free(connection)
    return Sizes(sum(by_kind.values()), by_kind, per_day, finished, oldest_us, horizon_us)


def table_sizes(connection: Connection) -> list[tuple[str, int]]:
    """Bytes by table; on SQLite, indexes stand beside their tables."""
    if is_sqlite(connection):
        query = "SELECT name, pgsize FROM dbstat WHERE aggregate = TRUE"
    else:
        query = (
            "SELECT relname, pg_total_relation_size(oid) FROM pg_class"
            " WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace"
        )
    return [(str(name), int(size)) for name, size in connection.exec_driver_sql(query)]


def _free(connection: Connection) -> int:
    if not is_sqlite(connection):
        return 0
    pages, size = (connection.exec_driver_sql(f"PRAGMA {one}").scalar_one() for one in ("freelist_count", "page_size"))
    return int(pages) * int(size)


def _growth(connection: Connection, horizon_us: int, count: int) -> dict[str, float]:
    if count == 0:
        return {}
    first, last = days.block_key(0, horizon_us - count * DAY_US), days.block_key(0, horizon_us)
    table = tables.series
    bodies = set(connection.execute(select(table.c.id).where(table.c.quantity == days.BODIES)).scalars())
    found = dict.fromkeys((SAMPLES, DETAILS, HOURS, DAYS), 0.0)
    block = tables.block
    window = (block.c.key >= first) & (block.c.key < last)
    for key, size in connection.execute(select(block.c.key, func.length(block.c.payload)).where(window)):
        found[DETAILS if days.key_series(key) in bodies else SAMPLES] += size + _ROW_BYTES
    for kind, of, column, extra in (
        (HOURS, tables.hour_summaries, tables.hour_summaries.c.payload, 0),
        (DAYS, tables.day_summary, tables.day_summary.c.sketch, _SUMMARY_BYTES),
    ):
        query = select(func.coalesce(func.sum(func.length(column)), 0), func.count()).where(
            of.c.key >= first, of.c.key < last
        )
        size, rows = connection.execute(query).one()
        found[kind] = size + rows * (_ROW_BYTES + extra)
    return {kind: size * _PAGES / count for kind, size in found.items()}


def _days_with(connection: Connection, quantity: str, horizon_us: int, finished: int) -> int:
    """For how many finished days blocks of a column are kept, told from one stream that has the oldest."""
    retired = days.bodies_retired(connection) if quantity == days.BODIES else 0
    return int(min(finished, max(0, horizon_us - retired) // DAY_US))
