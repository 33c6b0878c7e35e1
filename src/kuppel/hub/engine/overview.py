"""A group, a target, a vantage point or everything, in figures: stretches, classes of answer, members, vantage points."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.answer_class import AnswerClass, class_counts, class_of
from kuppel.core.departure import Departure
from kuppel.core.duration import DAY_US
from kuppel.core.quantity import bad_end
from kuppel.core.series import IntArray
from kuppel.core.state import GroupState, group_state
from kuppel.hub.engine.departures import Measure, departures_from_usual
from kuppel.hub.engine.estate import KIND_ORDER
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.pool import Pool, answered, pool
from kuppel.hub.engine.selection import Selected, Selection, selected
from kuppel.hub.engine.statistic import FEW_SAMPLES, Statistic
from kuppel.probes.registry import KINDS
from kuppel.store import history, totals
from kuppel.store.database import Database
from kuppel.store.history import StoredRun
from kuppel.store.inventory import VantagePoint
from kuppel.store.totals import Totals

_STRETCHES = (("day", DAY_US), ("week", 7 * DAY_US), ("month", 30 * DAY_US))
_MOST_FAILED = 12
# Failed runs are looked for where most of them are.
_MOST_FAILING = 8


@dataclass(frozen=True, slots=True)
class StretchFigures:
    """A stretch of time over all streams of a kind, and its median's change against the stretch before (a ratio)."""

    name: str
    from_us: int
    to_us: int
    p50: Statistic
    p95: Statistic
    answered: Statistic
    change: float | None


@dataclass(frozen=True, slots=True)
class ClassMember:
    """How many runs of a stream lie in each class, shape (5,)."""

    joined: Joined
    counts: IntArray


@dataclass(frozen=True, slots=True)
class TargetClass:
    target_id: int
    name: str
    counts: IntArray
    found: AnswerClass | None


@dataclass(frozen=True, slots=True)
class Member:
    """A stream over the window."""

    joined: Joined
    p50: Statistic
    mean: float | None
    most: float | None
    answered: Statistic
    departure: Departure | None


@dataclass(frozen=True, slots=True)
class PointFigures:
    """A vantage point towards the selection: its state, and medians over window, day, week and month."""

    vantage_point: VantagePoint
    group: GroupState
    streams: list[Joined]
    medians: Mapping[str, Statistic]


@dataclass(frozen=True, slots=True)
class Overview:
    selected: Selected
    kind: str | None
    kinds: list[tuple[str, int]]
    whole: GroupState
    rows: list[StretchFigures]
    percentiles: list[tuple[str, Statistic]]
    classes: list[ClassMember]
    targets: list[TargetClass]
    unlimited: int
    members: list[Member]
    phases: Mapping[str, float]


def overview(database: Database, selection: Selection, kind: str | None, from_us: int, to_us: int) -> Overview:
    """Figures of the streams of one kind: the one that is asked for, or that most of the streams are of."""
    found = selected(database, selection)
    kinds = _kinds(found.streams)
    chosen = kind if kind is not None else next(iter(dict(kinds)), None)
    streams = [one for one in found.streams if one.probe.kind == chosen]
    ids = [one.stream.id for one in found.streams]
    with database.reading() as connection:
        own = pool(connection, found.streams, from_us, to_us)
        starts = [from_us, *(to_us - length for _, length in _STRETCHES)]
        counts, *since = totals.run_counts_since(connection, ids, starts, to_us)
        mains = {one.stream.id: one.main.name for one in found.streams}
        sums = totals.totals(connection, list(mains.items()), from_us, to_us)
    targets, classes, unlimited = _classes(streams, own, counts)
    return Overview(
        found,
        chosen,
        kinds,
        group_state(one.stream.state for one in found.streams),
        _rows(database, streams, from_us, to_us, own, [counts, *since]),
        _percentiles(streams, own),
        classes,
        targets,
        unlimited,
        _members(database, found.streams, own, counts, sums, (from_us, to_us)),
        _phases(database, streams, from_us, to_us),
    )


def _kinds(streams: Sequence[Joined]) -> list[tuple[str, int]]:
    """Kinds and how many streams are of each, the most first; the richer of as many."""
    counts = Counter(one.probe.kind for one in streams)
    return sorted(counts.items(), key=lambda one: (-one[1], KIND_ORDER.index(one[0])))


def _rows(
    database: Database,
    streams: Sequence[Joined],
    from_us: int,
    to_us: int,
    own: Pool,
    counts: Sequence[dict[int, tuple[int, int]]],
) -> list[StretchFigures]:
    """The window and the stretches that end with it; `counts` are the runs of each."""
    if not streams:
        return []
    ids = [one.stream.id for one in streams]
    main = KINDS[streams[0].probe.kind].main
    rows = []
    for (name, length), runs in zip((("window", to_us - from_us), *_STRETCHES), counts, strict=True):
        start_us = to_us - length
        with database.reading() as connection:
            now = own if name == "window" else pool(connection, streams, start_us, to_us)
            before = pool(connection, streams, start_us - length, start_us)
        p50, then = now.percentile(ids, 0.5), before.percentile(ids, 0.5)
        is_known = p50.value is not None and then.value and then.count >= FEW_SAMPLES
        rows.append(
            StretchFigures(
                name, start_us, to_us, p50, now.percentile(ids, bad_end(main, 0.95)), answered(runs, ids),
                p50.value / then.value - 1 if is_known and p50.value is not None and then.value else None,
            )
        )  # fmt: skip
    return rows


def _percentiles(streams: Sequence[Joined], own: Pool) -> list[tuple[str, Statistic]]:
    if not streams:
        return []
    ids, main = [one.stream.id for one in streams], KINDS[streams[0].probe.kind].main
    shares = [bad_end(main, share) for share in (0.95, 0.99)]
    named = [("median", 0.5), *((f"p{round(share * 100)}", share) for share in shares)]
    return [(name, own.percentile(ids, share)) for name, share in named]


def _classes(
    streams: Sequence[Joined], own: Pool, runs: dict[int, tuple[int, int]]
) -> tuple[list[TargetClass], list[ClassMember], int]:
    """Targets and streams in classes of answer; how many streams have no limit to be held against."""
    members = []
    for one in streams:
        if one.limit is not None:
            ok, total = runs[one.stream.id]
            counts = class_counts(one.limit, *own.distribution(one.stream.id), total - ok)
            members.append(ClassMember(one, counts))
    by_target: dict[int, list[ClassMember]] = {}
    for member in members:
        by_target.setdefault(member.joined.target.id, []).append(member)
    targets = []
    for target_id, its in by_target.items():
        counts = np.sum([one.counts for one in its], axis=0)
        targets.append(TargetClass(target_id, its[0].joined.target.name, counts, class_of(counts)))
    targets.sort(key=lambda one: (-(one.found or 0), one.name))
    return targets, members, len(streams) - len(members)


def _members(
    database: Database,
    streams: Sequence[Joined],
    own: Pool,
    counts: dict[int, tuple[int, int]],
    sums: Mapping[tuple[int, str], Totals],
    window_us: tuple[int, int],
) -> list[Member]:
    """Worst first."""
    medians = {one.stream.id: own.percentile([one.stream.id], 0.5) for one in streams}
    told = [(one, medians[one.stream.id]) for one in streams]
    departures = departures_from_usual(database, told, Measure.P50, *window_us)
    found = []
    for one in streams:
        total = sums[one.stream.id, one.main.name]
        found.append(
            Member(
                one,
                medians[one.stream.id],
                total.sum / total.count if total.count else None,
                total.most,
                answered(counts, [one.stream.id]),
                departures.get(one.stream.id),
            )
        )
    return found


def _phases(database: Database, streams: Sequence[Joined], from_us: int, to_us: int) -> dict[str, float]:
    """The mean of each phase over the runs of the window: means of parts add up to the mean of the whole."""
    if not streams:
        return {}
    phases = KINDS[streams[0].probe.kind].phases
    with database.reading() as connection:
        sums = totals.totals(connection, [(one.stream.id, name) for one in streams for name in phases], from_us, to_us)
    found = {}
    for phase in phases:
        own = [one for (_, name), one in sums.items() if name == phase]
        count = sum(one.count for one in own)
        if count:
            found[phase] = sum(one.sum for one in own) / count
    return found


def points(
    database: Database, selection: Selection, kind: str | None, target_id: int | None, from_us: int, to_us: int
) -> tuple[list[PointFigures], str | None]:
    """Every vantage point's window, day, week and month towards a selection; and the kind of probe that is told of."""
    found = selected(database, selection)
    everything = [one for one in found.streams if target_id is None or one.target.id == target_id]
    chosen = kind if kind is not None else next(iter(dict(_kinds(everything))), None)
    streams = [one for one in everything if one.probe.kind == chosen]
    pools: dict[str, Pool] = {}
    for name, length in (("window", to_us - from_us), *_STRETCHES):
        with database.reading() as connection:
            pools[name] = pool(connection, streams, to_us - length, to_us)
    by_point: dict[int, list[Joined]] = {}
    for one in everything:
        by_point.setdefault(one.vantage_point.id, []).append(one)
    figures = [
        PointFigures(
            own[0].vantage_point,
            group_state(one.stream.state for one in own),
            own,
            {
                name: each.percentile([one.stream.id for one in own if one.probe.kind == chosen], 0.5)
                for name, each in pools.items()
            },
        )
        for own in by_point.values()
    ]
    return figures, chosen


def failed_runs(database: Database, selection: Selection, from_us: int, to_us: int) -> list[tuple[Joined, StoredRun]]:
    """The newest failed runs of a selection, from the streams that have most of them."""
    streams = {one.stream.id: one for one in selected(database, selection).streams}
    with database.reading() as connection:
        counts = totals.run_counts(connection, list(streams), from_us, to_us)
        failing = sorted(streams, key=lambda one: counts[one][0] - counts[one][1])[:_MOST_FAILING]
        found = [
            (streams[stream_id], run)
            for stream_id in failing
            if counts[stream_id][0] < counts[stream_id][1]
            for run in history.runs(connection, stream_id, from_us, to_us, _MOST_FAILED, is_failed_only=True)
        ]
    return sorted(found, key=lambda one: -one[1].time_us)[:_MOST_FAILED]
