"""One stream in a window: its band, phases, figures and neighbours."""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.availability import Availability, availability
from kuppel.core.change_point import What, level_and_spread
from kuppel.core.duration import DAY_US
from kuppel.core.percentile import percentile
from kuppel.core.quantity import QUANTITIES, bad_end
from kuppel.core.reason import Reason
from kuppel.core.schedule import expected_runs
from kuppel.core.sentence import StreamReading, stream_sentence
from kuppel.core.series import FloatArray, IntArray, slice_counts, slice_means, slice_width
from kuppel.core.state import State
from kuppel.core.window import Band, band
from kuppel.hub.engine.estate import main_statistics
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.engine.statistic import FEW_SAMPLES, Statistic, time_statistic
from kuppel.probes.registry import KINDS
from kuppel.store import history, states
from kuppel.store.database import Database
from kuppel.store.history import StoredFact, StoredRun

# Ticks of single answers that a screen can tell apart; beyond it an even selection of the sorted values is sent.
_MOST_TICKS = 600
_MOST_PEERS = 5


@dataclass(frozen=True, slots=True)
class LevelChange:
    """A change of level or spread: when, and the medians of the segments before and after it."""

    time_us: int
    what: What
    before: float
    after: float


@dataclass(frozen=True, slots=True)
class StreamSeries:
    """A stream's main quantity as a band, failed runs per slice, phases per slice, its states, and where its medians
    changed for good."""

    band: Band
    failed: IntArray
    phases: Mapping[str, FloatArray]
    spans: list[tuple[int, int, State]]
    is_generated: bool
    changes: list[LevelChange]


@dataclass(frozen=True, slots=True)
class Figures:
    """Figures of one stretch of time, and its median's change against the stretch before it (a ratio; None if unknown)."""

    name: str
    from_us: int
    to_us: int
    p50: Statistic
    p95: Statistic
    answered: Availability
    change: float | None


@dataclass(frozen=True, slots=True)
class Distribution:
    """Every answer of the window: values (an even selection when there are many), percentiles, shares under limits."""

    values: FloatArray
    count: int
    percentiles: list[tuple[str, Statistic]]
    shares_under: list[tuple[str, float, float]]


@dataclass(frozen=True, slots=True)
class Neighbour:
    """Another vantage point's stream of the same probe, its median in the window and the difference to ours."""

    joined: Joined
    p50: Statistic
    difference: float | None


def series(database: Database, joined: Joined, from_us: int, to_us: int, points: int) -> StreamSeries:
    """The window in at most `points` slices, none shorter than the probe's interval."""
    kind = KINDS[joined.probe.kind]
    stream_id = joined.stream.id
    width_us = slice_width(from_us, to_us, points, joined.probe.interval_us)
    with database.reading() as connection:
        found = history.samples(connection, [stream_id], {kind.main, *kind.phases}, from_us, to_us)
        _, failed = history.run_times(connection, stream_id, from_us, to_us)
        spans = states.state_spans(connection, from_us, to_us, stream_id)
        is_generated = history.has_generated(connection, stream_id, from_us, to_us)
    nothing = (np.empty(0, dtype=np.int64), np.empty(0))
    times, values = found.get((stream_id, kind.main), nothing)
    phases = {
        name: slice_means(*found[stream_id, name], from_us, to_us, width_us)
        for name in kind.phases
        if (stream_id, name) in found
    }
    over_time = band(times, values, from_us, to_us, width_us)
    return StreamSeries(
        over_time,
        slice_counts(failed, from_us, to_us, width_us),
        phases,
        spans,
        is_generated,
        _level_changes(over_time),
    )


def some_series(database: Database, streams: Sequence[Joined], from_us: int, to_us: int, points: int) -> list[StreamSeries]:
    return [series(database, one, from_us, to_us, points) for one in streams]


def _level_changes(of: Band) -> list[LevelChange]:
    known = np.flatnonzero(~np.isnan(of.p50))
    medians = of.p50[known]
    found = level_and_spread(medians)
    edges = [0, *(at for at, _ in found), medians.size]
    middles = [float(np.median(medians[a:b])) for a, b in itertools.pairwise(edges) if b > a]
    return [
        LevelChange(int(of.starts_us[known[at]]), what, middles[number], middles[number + 1])
        for number, (at, what) in enumerate(found)
    ]


def figures(database: Database, joined: Joined, from_us: int, to_us: int) -> list[Figures]:
    """Figures of the window, and of the day, week and month that end with it, each against the stretch before it."""
    stretches = [("window", to_us - from_us), ("day", DAY_US), ("week", 7 * DAY_US), ("month", 30 * DAY_US)]
    stream_id, main = joined.stream.id, joined.main.name
    first_us = to_us - 2 * max(length for _, length in stretches)
    with database.reading() as connection:
        found = history.samples(connection, [stream_id], [main], first_us, to_us)
        ok, failed = history.run_times(connection, stream_id, first_us, to_us)
    times, values = found.get((stream_id, main), (np.empty(0, dtype=np.int64), np.empty(0)))
    rows = []
    for name, length in stretches:
        start_us = to_us - length
        now = values[times >= start_us]
        before = values[(times >= start_us - length) & (times < start_us)]
        ok_runs = int(np.count_nonzero(ok >= start_us))
        runs = ok_runs + int(np.count_nonzero(failed >= start_us))
        answered = availability(ok_runs, runs, expected_runs(joined.probe.timing, start_us, to_us))
        p50 = time_statistic(now, 0.5)
        rows.append(
            Figures(
                name, start_us, to_us, p50, time_statistic(now, bad_end(main, 0.95)), answered, _change(p50.value, before)
            )
        )
    return rows


@dataclass(frozen=True, slots=True)
class InFigures:
    """A stream in figures: stretches, the window's distribution and phases, and its neighbours."""

    rows: list[Figures]
    distribution: Distribution
    phase_medians: Mapping[str, float]
    neighbours: list[Neighbour]


def in_figures(database: Database, joined: Joined, from_us: int, to_us: int) -> InFigures:
    """All figures of a stream's screen."""
    return InFigures(
        figures(database, joined, from_us, to_us),
        distribution(database, joined, from_us, to_us),
        phase_medians(database, joined, from_us, to_us),
        neighbours(database, joined, from_us, to_us),
    )


@dataclass(frozen=True, slots=True)
class Runs:
    """The newest runs of a window, facts until its end, and how many runs it holds."""

    runs: list[StoredRun]
    facts: list[StoredFact]
    failed: int
    total: int


def runs(database: Database, stream_id: int, from_us: int, to_us: int, limit: int, *, is_failed_only: bool) -> Runs:
    with database.reading() as connection:
        found = history.runs(connection, stream_id, from_us, to_us, limit, is_failed_only=is_failed_only)
        ok, failed = history.run_times(connection, stream_id, from_us, to_us)
        facts = history.facts(connection, stream_id, to_us)
    return Runs(found, facts, failed.size, ok.size + failed.size)


def _change(median: float | None, before: FloatArray) -> float | None:
    if median is None or before.size < FEW_SAMPLES or (middle := percentile(before, 0.5)) <= 0:
        return None
    return median / middle - 1


def distribution(database: Database, joined: Joined, from_us: int, to_us: int) -> Distribution:
    """Every answer of the window."""
    stream_id, main = joined.stream.id, joined.main.name
    with database.reading() as connection:
        found = history.samples(connection, [stream_id], [main], from_us, to_us)
    values = np.sort(found[stream_id, main][1]) if (stream_id, main) in found else np.empty(0)
    shown = values
    if values.size > _MOST_TICKS:
        shown = values[np.linspace(0, values.size - 1, _MOST_TICKS).astype(np.int64)]
    shares = [bad_end(main, share) for share in (0.95, 0.99)]
    named = [("median", 0.5), *((f"p{round(share * 100)}", share) for share in shares)]
    percentiles = [(name, time_statistic(values, share)) for name, share in named]
    is_lower_worse = QUANTITIES[main].worse == "lower"
    under = [
        (name, level, float(np.count_nonzero(values >= level if is_lower_worse else values <= level) / values.size))
        for limit in joined.probe.limits
        if limit.quantity == main and values.size
        for name, level in (("clear", limit.clear), ("degraded", limit.degraded), ("breached", limit.breached))
        if level is not None
    ]
    return Distribution(shown, values.size, percentiles, under)


def phase_medians(database: Database, joined: Joined, from_us: int, to_us: int) -> dict[str, float]:
    """The median of each phase over the runs of the window: what a usual run looks like."""
    kind = KINDS[joined.probe.kind]
    with database.reading() as connection:
        found = history.samples(connection, [joined.stream.id], kind.phases, from_us, to_us)
    return {
        name: percentile(found[joined.stream.id, name][1], 0.5) for name in kind.phases if (joined.stream.id, name) in found
    }


def neighbours(database: Database, joined: Joined, from_us: int, to_us: int) -> list[Neighbour]:
    """The same probe from elsewhere, nearest in its answer time first."""
    others = joined_streams(database, joined.probe.id)
    medians = main_statistics(database, others, from_us, to_us, 0.5)
    own_median = medians[joined.stream.id].value if joined.stream.id in medians else None
    result = []
    for one in others:
        if one.stream.id == joined.stream.id:
            continue
        p50 = medians[one.stream.id]
        difference = None if p50.value is None or own_median is None else p50.value - own_median
        result.append(Neighbour(one, p50, difference))
    return sorted(result, key=lambda one: (one.difference is None, abs(one.difference or 0.0)))


def peers(database: Database, joined: Joined) -> list[Joined]:
    """Streams of the same probe to hold this one against: one that shares the provider, one that shares the place, then
    vantage points of its kind, then others; at most five."""
    own = joined.vantage_point
    others = [one for one in joined_streams(database, joined.probe.id) if one.stream.id != joined.stream.id]

    def apart(one: Joined) -> tuple[bool, bool, str]:
        other = one.vantage_point
        is_near = other.provider == own.provider or (other.longitude, other.latitude) == (own.longitude, own.latitude)
        return (not is_near, other.kind != own.kind, other.name)

    return sorted(others, key=apart)[:_MOST_PEERS]


def sentence(database: Database, joined: Joined, from_us: int, to_us: int) -> str:
    """The stream's state in one sentence."""
    main = joined.main.name
    with database.reading() as connection:
        found = history.samples(connection, [joined.stream.id], [main], from_us, to_us)
        ok, failed = history.run_times(connection, joined.stream.id, from_us, to_us)
        newest: list[StoredRun] = history.runs(connection, joined.stream.id, 0, 2**62, 1)
    values = found.get((joined.stream.id, main))
    run = newest[0] if newest else None
    return stream_sentence(
        StreamReading(
            vantage_point=joined.vantage_point.name,
            target=joined.target.name,
            kind=joined.probe.kind,
            state=joined.stream.state,
            main=main,
            median=percentile(values[1], 0.5) if values is not None else None,
            runs=ok.size + failed.size,
            newest=run.quantities if run else {},
            newest_reason=Reason(run.reason) if run and run.reason else None,
            limits=joined.probe.limits,
        )
    )
