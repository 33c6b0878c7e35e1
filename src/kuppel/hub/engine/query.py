"""Questions to what was measured: windows in slices, top lists, distributions, comparisons.

Which are exact and which within 1 % is decided in `engine.statistic`.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core import sketch as sketches
from kuppel.core import window
from kuppel.core.difference import Difference, Estimate, difference
from kuppel.core.duration import DAY_US
from kuppel.core.error import SettingsError
from kuppel.core.quantity import quantity_named
from kuppel.core.series import FloatArray, IntArray, slice_starts, slice_width
from kuppel.core.sketch import Sketch
from kuppel.core.window import Statistics, Summaries
from kuppel.hub.engine.joined import Joined, joined_stream, joined_streams
from kuppel.hub.engine.statistic import EXACT, NOTHING, WITHIN, Statistic, is_exact, share_statistic, statistics_of
from kuppel.probes.registry import KINDS
from kuppel.store import days, history, rollup, totals
from kuppel.store.database import Connection, Database


@dataclass(frozen=True, slots=True)
class Slices:
    """Statistics of some streams in slices: for each stream a column for each statistic, shape (slices,)."""

    quantity: str
    starts_us: IntArray
    width_us: int
    streams: dict[int, dict[str, FloatArray]]
    method: str


@dataclass(frozen=True, slots=True)
class Ranked:
    joined: Joined
    quantity: str
    statistic: Statistic


@dataclass(frozen=True, slots=True)
class Classes:
    """How many values lie in each class between edges; one more class than edges."""

    quantity: str
    edges: FloatArray
    counts: IntArray
    method: str


@dataclass(frozen=True, slots=True)
class Compared:
    """One stream in two windows: its statistic in each, what lies between them, and what lies between the first stream's
    and its own in the window (None without a sample in both)."""

    joined: Joined
    quantity: str
    now: Statistic
    before: Statistic
    difference: Difference | None
    from_first: Difference | None


def slices(
    database: Database,
    stream_ids: Sequence[int],
    quantity: str | None,
    from_us: int,
    to_us: int,
    points: int,
    names: Sequence[str],
) -> Slices:
    """Statistics of one quantity of some streams, in at most `points` slices.

    Raises
    ------
    SettingsError, NotFound
    """
    wanted = Statistics.named(names)
    joined = [joined_stream(database, one) for one in stream_ids]
    name = _common_quantity(joined, quantity)
    interval_us = min(one.probe.interval_us for one in joined)
    width_us = slice_width(from_us, to_us, points, interval_us)
    with database.reading() as connection:
        if is_exact(connection, joined, from_us, to_us):
            starts = slice_starts(from_us, to_us, width_us)
            found = {
                one.stream.id: _exact_slices(connection, one, name, from_us, to_us, starts, width_us, wanted)
                for one in joined
            }
            return Slices(name, starts, width_us, found, EXACT)
        width_us = window.summary_width(width_us)
        starts = slice_starts(from_us, to_us, width_us)
        end_us = int(starts[-1]) + width_us
        return Slices(
            name,
            starts,
            width_us,
            {one.stream.id: _summed_slices(connection, one, name, starts, width_us, end_us, wanted) for one in joined},
            WITHIN,
        )


def _exact_slices(
    connection: Connection,
    one: Joined,
    name: str,
    from_us: int,
    to_us: int,
    starts: IntArray,
    width_us: int,
    wanted: Statistics,
) -> dict[str, FloatArray]:
    times, values = history.samples(connection, [one.stream.id], [name], from_us, to_us).get((one.stream.id, name), NOTHING)
    failed = np.empty(0, dtype=np.int64)
    if "failed" in wanted.names:
        _, failed = history.run_times(connection, one.stream.id, from_us, to_us)
    return window.from_samples(times, values, failed, starts, width_us, wanted)


def _summed_slices(
    connection: Connection, one: Joined, name: str, starts: IntArray, width_us: int, end_us: int, wanted: Statistics
) -> dict[str, FloatArray]:
    is_by_day = width_us % DAY_US == 0
    kept = rollup.summaries(connection, one.stream.id, name, int(starts[0]), end_us, is_by_day=is_by_day)
    index = np.array([(start - int(starts[0])) // width_us for start, _ in kept], dtype=np.int64)
    told = [summary for _, summary in kept]
    of = Summaries(
        index,
        np.array([each.count for each in told], dtype=np.int64),
        np.array([each.sum for each in told], dtype=np.float64),
        np.array([np.nan if each.least is None else each.least for each in told], dtype=np.float64),
        np.array([np.nan if each.most is None else each.most for each in told], dtype=np.float64),
    )
    groups: list[list[Sketch]] = [[] for _ in range(starts.size)]
    for where, each in zip(index.tolist(), told, strict=True):
        groups[where].append(each.sketch)
    failed = np.zeros(starts.size)
    if "failed" in wanted.names:
        for start, each in rollup.summaries(
            connection, one.stream.id, days.TIMES, int(starts[0]), end_us, is_by_day=is_by_day
        ):
            failed[(start - int(starts[0])) // width_us] += each.failed
    return window.from_summaries(of, [sketches.merged(each) for each in groups], failed, wanted)


def top(
    database: Database,
    quantity: str | None,
    statistic: str,
    from_us: int,
    to_us: int,
    *,
    count: int,
    kind: str | None,
    is_best: bool,
) -> list[Ranked]:
    """The streams with the worst (or best) values of a statistic, the first the most so.

    Parameters
    ----------
    quantity : None for the main one of each kind.

    Raises
    ------
    SettingsError
    """
    Statistics.named([statistic], "statistic")
    if quantity is not None:
        quantity_named(quantity)
    streams = [one for one in joined_streams(database) if kind in (None, one.probe.kind)]
    wanted = [(one, quantity or one.main.name) for one in streams]
    wanted = [(one, name) for one, name in wanted if name in KINDS[one.probe.kind].quantities]
    with database.reading() as connection:
        found = statistics_of(connection, wanted, statistic, from_us, to_us)
    ranked = [Ranked(one, name, told) for (one, name), told in zip(wanted, found, strict=True) if told.value is not None]

    def badness(one: Ranked) -> float:
        value = one.statistic.value or 0.0
        is_low_bad = quantity_named(one.quantity).worse == "lower" and statistic not in ("count", "failed")
        return -value if is_low_bad else value

    ranked.sort(key=badness, reverse=not is_best)
    return ranked[:count]


def distribution(
    database: Database, stream_ids: Sequence[int], quantity: str | None, edges: Sequence[float], from_us: int, to_us: int
) -> Classes:
    """How many values of some streams lie in each class.

    Raises
    ------
    SettingsError, NotFound
    """
    told = np.array(edges, dtype=np.float64)
    if told.size == 0 or not np.isfinite(told).all() or (np.diff(told) <= 0).any():
        raise SettingsError("edges", ", ".join(map(str, edges)), "be numbers that rise, such as 100, 300, 1000")
    joined = [joined_stream(database, one) for one in stream_ids]
    name = _common_quantity(joined, quantity)
    ids = [one.stream.id for one in joined]
    with database.reading() as connection:
        if is_exact(connection, joined, from_us, to_us):
            found = history.samples(connection, ids, [name], from_us, to_us)
            counts = [window.class_counts(values, told) for _, values in found.values()]
            return Classes(name, told, np.sum(counts, axis=0) if counts else np.zeros(told.size + 1, np.int64), EXACT)
        whole = sketches.merged(rollup.sketches_of(connection, [(one, name) for one in ids], from_us, to_us).values())
    return Classes(name, told, sketches.class_counts(whole, told), "values within 1 % of an edge may lie beside it")


def comparison(
    database: Database,
    stream_ids: Sequence[int],
    quantity: str | None,
    statistic: str,
    window_us: tuple[int, int],
    other_us: tuple[int, int],
) -> list[Compared]:
    """Streams in one window against another, with the interval of the difference.

    Raises
    ------
    SettingsError, NotFound
    """
    joined = [joined_stream(database, one) for one in stream_ids]
    if statistic == "availability":
        with database.reading() as connection:
            counts = [totals.run_counts(connection, stream_ids, *each) for each in (window_us, other_us)]
        told = [
            (share_statistic(*counts[0][one.stream.id], "runs"), share_statistic(*counts[1][one.stream.id], "runs"))
            for one in joined
        ]
        return _compared(joined, "availability", told)
    Statistics.named([statistic], "statistic")
    name = _common_quantity(joined, quantity)
    wanted = [(one, name) for one in joined]
    with database.reading() as connection:
        columns = [statistics_of(connection, wanted, statistic, *each) for each in (window_us, other_us)]
    return _compared(joined, name, list(zip(*columns, strict=True)))


def _compared(joined: Sequence[Joined], name: str, told: Sequence[tuple[Statistic, Statistic]]) -> list[Compared]:
    first = told[0][0]
    return [
        Compared(one, name, now, before, _between(now, before), None if at == 0 else _between(now, first))
        for at, (one, (now, before)) in enumerate(zip(joined, told, strict=True))
    ]


def _between(now: Statistic, before: Statistic) -> Difference | None:
    if now.value is None or before.value is None:
        return None
    return difference(Estimate(now.value, now.low, now.high), Estimate(before.value, before.low, before.high))


def _common_quantity(joined: Sequence[Joined], quantity: str | None) -> str:
    """The quantity that is asked for, which all of the streams must have; the main one when none is named."""
    if not joined:
        raise SettingsError("streams", "none", "name at least one stream")
    name = quantity_named(quantity).name if quantity is not None else KINDS[joined[0].probe.kind].main
    for one in joined:
        if name not in KINDS[one.probe.kind].quantities:
            raise SettingsError("quantity", name, f"be measured by all of the streams; {one.probe.name} does not")
    return name
