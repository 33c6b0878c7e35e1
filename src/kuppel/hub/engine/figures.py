"""One stream in figures: stretches of time, how its answers are distributed, and its neighbours."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from kuppel.core.availability import Availability, availability
from kuppel.core.duration import DAY_US
from kuppel.core.percentile import percentile
from kuppel.core.quantity import QUANTITIES, bad_end
from kuppel.core.schedule import expected_runs
from kuppel.core.series import FloatArray
from kuppel.hub.engine.estate import main_statistics
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.reading import Reading
from kuppel.hub.engine.statistic import FEW_SAMPLES, Statistic, time_statistic
from kuppel.probes.registry import KINDS
from kuppel.store import history
from kuppel.store.database import Database

# Ticks of single answers that a screen can tell apart; beyond it an even selection of the sorted values is sent.
_MOST_TICKS = 600


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


def stretches(reading: Reading) -> list[Figures]:
    """Figures of the window, and of the day, week and month that end with it, each against the stretch before it."""
    joined, to_us = reading.joined, reading.to_us
    lengths = [("window", to_us - reading.from_us), ("day", DAY_US), ("week", 7 * DAY_US), ("month", 30 * DAY_US)]
    stream_id, main = joined.stream.id, joined.main.name
    first_us = to_us - 2 * max(length for _, length in lengths)
    with reading.database.reading() as connection:
        found = history.samples(connection, [stream_id], [main], first_us, to_us)
        ok, failed = history.run_times(connection, stream_id, first_us, to_us)
    times, values = found.get((stream_id, main), (np.empty(0, dtype=np.int64), np.empty(0)))
    rows = []
    for name, length in lengths:
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


def in_figures(reading: Reading) -> InFigures:
    """All figures of a stream's screen."""
    return InFigures(stretches(reading), distribution(reading), phase_medians(reading), neighbours(reading))


def figures(database: Database, joined: Joined, from_us: int, to_us: int) -> InFigures:
    return in_figures(Reading(database, joined, from_us, to_us))


def _change(median: float | None, before: FloatArray) -> float | None:
    if median is None or before.size < FEW_SAMPLES or (middle := percentile(before, 0.5)) <= 0:
        return None
    return median / middle - 1


def distribution(reading: Reading) -> Distribution:
    """Every answer of the window."""
    main = reading.joined.main.name
    values = np.sort(reading.main[1])
    shown = values
    if values.size > _MOST_TICKS:
        shown = values[np.linspace(0, values.size - 1, _MOST_TICKS).astype(np.int64)]
    shares = [bad_end(main, share) for share in (0.95, 0.99)]
    named = [("median", 0.5), *((f"p{round(share * 100)}", share) for share in shares)]
    percentiles = [(name, time_statistic(values, share)) for name, share in named]
    is_lower_worse = QUANTITIES[main].worse == "lower"
    under = [
        (name, level, float(np.count_nonzero(values >= level if is_lower_worse else values <= level) / values.size))
        for limit in reading.joined.probe.limits
        if limit.quantity == main and values.size
        for name, level in (("clear", limit.clear), ("degraded", limit.degraded), ("breached", limit.breached))
        if level is not None
    ]
    return Distribution(shown, values.size, percentiles, under)


def phase_medians(reading: Reading) -> dict[str, float]:
    """The median of each phase over the runs of the window: what a usual run looks like."""
    phases = KINDS[reading.joined.probe.kind].phases
    return {name: percentile(reading.samples[name][1], 0.5) for name in phases if name in reading.samples}


def neighbours(reading: Reading) -> list[Neighbour]:
    """The same probe from elsewhere, nearest in its answer time first."""
    own = reading.joined
    medians = main_statistics(reading.database, reading.siblings, reading.from_us, reading.to_us, 0.5)
    own_median = medians[own.stream.id].value if own.stream.id in medians else None
    result = []
    for one in reading.siblings:
        if one.stream.id == own.stream.id:
            continue
        p50 = medians[one.stream.id]
        difference = None if p50.value is None or own_median is None else p50.value - own_median
        result.append(Neighbour(one, p50, difference))
    return sorted(result, key=lambda one: (one.difference is None, abs(one.difference or 0.0)))
