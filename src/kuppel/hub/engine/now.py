"""What needs attention now: matters, who is affected, who is silent, what runs out next."""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from kuppel.core.attention import Matter, Unusual, Watched, matters
from kuppel.core.change_point import change_points
from kuppel.core.departure import UNUSUAL, Departure
from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.core.series import IntArray
from kuppel.core.state import SEVERITY, GroupState, State, group_state
from kuppel.core.window import Band, band
from kuppel.hub.engine.departures import Measure, departures_from_usual
from kuppel.hub.engine.estate import KIND_ORDER, main_statistics
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.engine.reading import small_series
from kuppel.hub.engine.statistic import Statistic, percentiles_of
from kuppel.store import history, states, totals
from kuppel.store.database import Database
from kuppel.store.inventory import Target, VantagePoint
from kuppel.store.states import Spans

# Changes are looked for among medians of five minutes: a day of them is a few hundred.
_CHANGE_SLICE_US = 5 * MINUTE_US
# One run in ten of an hour that fails is no accident any more (common practice, no source).
_FAILING_SHARE = 0.1
_MOST_CLOSE = 3
_MOST_SERIES = 60
# A third of an hour in trouble is trouble, whatever the last run said (common practice, no source).
_MUCH = 1 / 3


@dataclass(frozen=True, slots=True)
class Shown:
    """A matter, the stream whose figures tell it best, since when (None where nobody can say), and of what that stream is
    judged by: the median over the last hour or its last runs, what is usual, and a small series with the failed runs of
    each slice (None beyond the first matters)."""

    matter: Matter
    stream: Joined
    since_us: int | None
    median: Statistic
    usual: float | None
    series: tuple[Band, IntArray] | None = None


@dataclass(frozen=True, slots=True)
class Expiring:
    """A certificate that a target shows, and when it ends; its state is that of the probe of certificates, if there is
    one."""

    target: Target
    stream_id: int
    state: State
    expires_us: int


@dataclass(frozen=True, slots=True)
class Close:
    """A fine stream, its median of the last hour, its degraded limit, and how much of the way there it has gone."""

    stream: Joined
    median: Statistic
    limit: float
    share: float


@dataclass(frozen=True, slots=True)
class Now:
    """Silent vantage points are those of which every stream is silent; `closest` are the fine streams that are nearest to
    their limits."""

    matters: list[Shown]
    vantage_points: list[tuple[VantagePoint, GroupState]]
    targets: list[tuple[Target, GroupState]]
    expiring: list[Expiring]
    closest: list[Close]


def now(database: Database, now_us: int, window_us: tuple[int, int], slices: int) -> Now:
    """What needs attention at a moment, with small series of a window in at most so many slices."""
    streams = {one.stream.id: one for one in joined_streams(database)}
    medians = main_statistics(database, list(streams.values()), now_us - HOUR_US, now_us, 0.5)
    told = [(one, medians[one.stream.id]) for one in streams.values()]
    departures = departures_from_usual(database, told, Measure.P50, now_us - HOUR_US, now_us)
    unusual = _unusual(streams, departures)
    with database.reading() as connection:
        counts = totals.run_counts(connection, list(streams), now_us - HOUR_US, now_us)
        on_and_off = _on_and_off(states.spans(connection, now_us - HOUR_US, now_us))
    watched = [
        Watched(
            one.stream.id, one.vantage_point.name, one.vantage_point.provider, one.target.name, one.probe.name,
            *_state(one, on_and_off), unusual.get(one.stream.id, ""), _is_failing(*counts[one.stream.id]),
            one.stream.state is State.FINE and one.stream.id in on_and_off,
        )
        for one in streams.values()
    ]  # fmt: skip
    points: dict[int, list[Joined]] = {}
    targets: dict[int, list[Joined]] = {}
    for one in streams.values():
        points.setdefault(one.vantage_point.id, []).append(one)
        targets.setdefault(one.target.id, []).append(one)
    found = []
    for matter in matters(watched):
        telling = _telling([streams[each.stream_id] for each in matter.streams])
        since_us = _changed_us(database, telling, now_us) if matter.since_us is None else matter.since_us
        departure = departures.get(telling.stream.id)
        if telling.judged is telling.main:
            figure, usual = medians[telling.stream.id], None if departure is None else departure.usual
        else:
            figure, usual = _of_last_runs(database, telling, now_us), None
        found.append(Shown(matter, telling, since_us, figure, usual))
    series = small_series(database, [one.stream for one in found[:_MOST_SERIES]], *window_us, slices)
    found = [replace(one, series=own) for one, own in itertools.zip_longest(found, series)]
    return Now(
        found,
        [(own[0].vantage_point, group_state(one.stream.state for one in own)) for own in points.values()],
        [(own[0].target, group_state(one.stream.state for one in own)) for own in targets.values()],
        _expiring(database, streams),
        _closest(told),
    )


def _of_last_runs(database: Database, one: Joined, now_us: int) -> Statistic:
    """The median of what a stream is judged by: a certificate is looked at once a day."""
    from_us = now_us - max(HOUR_US, 2 * one.probe.interval_us)
    with database.reading() as connection:
        return percentiles_of(connection, [(one, one.judged.name, 0.5)], from_us, now_us)[0]


def _unusual(streams: Mapping[int, Joined], departures: Mapping[int, Departure]) -> dict[int, Unusual]:
    """Streams whose median of the last hour is unlike what is usual at this hour."""
    units = {stream_id: one.main.unit for stream_id, one in streams.items()}
    return {
        stream_id: "slower" if units[stream_id] == "ms" else "worse"
        for stream_id, one in departures.items()
        if one.level >= UNUSUAL
    }


def _closest(told: Sequence[tuple[Joined, Statistic]]) -> list[Close]:
    found = []
    for one, median in told:
        level = None if one.limit is None else one.limit.degraded
        if one.stream.state is State.FINE and level and median.value:
            share = level / median.value if one.main.worse == "lower" else median.value / level
            found.append(Close(one, median, level, share))
    return sorted(found, key=lambda one: -one.share)[:_MOST_CLOSE]


def _state(one: Joined, on_and_off: Mapping[int, tuple[State, int]]) -> tuple[State, int]:
    """A stream's state and since when; what is fine at this moment, but was not for much of the hour, is not fine."""
    now = one.stream.state, one.stream.state_since_us
    return on_and_off.get(one.stream.id, now) if one.stream.state is State.FINE else now


def _on_and_off(spans: Spans) -> dict[int, tuple[State, int]]:
    """Streams that were degraded or breached for `_MUCH` of the hour: the worst that they were, and since when."""
    lasted: dict[int, int] = {}
    found: dict[int, tuple[State, int]] = {}
    for stream_id, from_us, to_us, name in zip(
        spans.stream_id.tolist(), spans.from_us.tolist(), spans.to_us.tolist(), spans.state.tolist(), strict=True
    ):
        state = State(name)
        if state in (State.DEGRADED, State.BREACHED):
            lasted[stream_id] = lasted.get(stream_id, 0) + to_us - from_us
            worst, first_us = found.get(stream_id, (state, from_us))
            found[stream_id] = (max(worst, state, key=SEVERITY.__getitem__), first_us)
    return {stream_id: one for stream_id, one in found.items() if lasted[stream_id] >= _MUCH * HOUR_US}


def _is_failing(ok: int, total: int) -> bool:
    return total > 0 and (total - ok) / total >= _FAILING_SHARE


def _changed_us(database: Database, one: Joined, now_us: int) -> int | None:
    """When the level of a stream changed last within a day."""
    width_us = max(_CHANGE_SLICE_US, one.probe.interval_us)
    from_us = (now_us - DAY_US) // width_us * width_us
    main = one.main.name
    with database.reading() as connection:
        found = history.samples(connection, [one.stream.id], [main], from_us, now_us).get((one.stream.id, main))
    if found is None:
        return None
    medians = band(*found, from_us, now_us, width_us)
    known = np.flatnonzero(~np.isnan(medians.p50))
    changed = change_points(medians.p50[known])
    return int(medians.starts_us[known[changed[-1]]]) if changed else None


def _telling(streams: list[Joined]) -> Joined:
    """The worst, and of those the kind that is nearest to what people feel; the one that has been so for longest."""
    return min(
        streams,
        key=lambda one: (-SEVERITY[one.stream.state], KIND_ORDER.index(one.probe.kind), one.stream.state_since_us),
    )


def _expiring(database: Database, streams: dict[int, Joined]) -> list[Expiring]:
    """Certificates, those that end first first; each target's once, as its certificate probe sees it, if it has one."""
    with database.reading() as connection:
        ends = history.newest_facts(connection, "certificate_expires")
    found: dict[int, tuple[bool, Expiring]] = {}
    for stream_id, value in ends.items():
        one = streams.get(stream_id)
        if one is None:
            continue
        expires_us = round(datetime.fromisoformat(value).timestamp() * 1e6)
        is_own = one.probe.kind == "tls"
        before = found.get(one.target.id)
        if before is None or (is_own, -expires_us) > (before[0], -before[1].expires_us):
            found[one.target.id] = (
                is_own,
                Expiring(one.target, stream_id, one.stream.state if is_own else State.FINE, expires_us),
            )
    return sorted((one for _, one in found.values()), key=lambda one: one.expires_us)
