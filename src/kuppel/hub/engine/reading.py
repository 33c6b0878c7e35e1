"""One stream over a window: its band, phases, states, runs and sentence."""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kuppel.core.change_point import What, level_and_spread
from kuppel.core.percentile import percentile
from kuppel.core.reason import Reason
from kuppel.core.sentence import StreamReading, stream_sentence
from kuppel.core.series import FloatArray, IntArray, slice_counts, slice_means, slice_width
from kuppel.core.state import State
from kuppel.core.window import Band, band
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.probes.registry import KINDS
from kuppel.store import history, states
from kuppel.store.database import Database
from kuppel.store.history import StoredFact, StoredRun

_NOTHING = (np.empty(0, dtype=np.int64), np.empty(0))
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
class Runs:
    """The newest runs of a window, facts until its end, and how many runs it holds."""

    runs: list[StoredRun]
    facts: list[StoredFact]
    failed: int
    total: int


class Reading:
    """One stream over a window. Each part is read once, however many questions it answers."""

    def __init__(self, database: Database, joined: Joined, from_us: int, to_us: int) -> None:
        self.database = database
        self.joined = joined
        self.from_us = from_us
        self.to_us = to_us

    @cached_property
    def samples(self) -> Mapping[str, tuple[IntArray, FloatArray]]:
        """Times and values of the main quantity and of each phase that has any."""
        stream_id, kind = self.joined.stream.id, KINDS[self.joined.probe.kind]
        with self.database.reading() as connection:
            found = history.samples(connection, [stream_id], {kind.main, *kind.phases}, self.from_us, self.to_us)
        return {quantity: measured for (_, quantity), measured in found.items()}

    @cached_property
    def siblings(self) -> list[Joined]:
        """All streams of the same probe, this one too."""
        return joined_streams(self.database, self.joined.probe.id)

    def peers(self) -> list[Joined]:
        """Streams of the same probe to hold this one against: one that shares the provider, one that shares the place,
        then vantage points of its kind, then others; at most five."""
        own = self.joined.vantage_point

        def apart(one: Joined) -> tuple[bool, bool, str]:
            other = one.vantage_point
            is_near = other.provider == own.provider or (other.longitude, other.latitude) == (own.longitude, own.latitude)
            return (not is_near, other.kind != own.kind, other.name)

        others = [one for one in self.siblings if one.stream.id != self.joined.stream.id]
        return sorted(others, key=apart)[:_MOST_PEERS]

    @property
    def main(self) -> tuple[IntArray, FloatArray]:
        """Times and values of the main quantity."""
        return self.samples.get(self.joined.main.name, _NOTHING)

    @cached_property
    def run_times(self) -> tuple[IntArray, IntArray]:
        """Times of the runs that were ok, and of those that failed."""
        with self.database.reading() as connection:
            return history.run_times(connection, self.joined.stream.id, self.from_us, self.to_us)

    def newest(self, limit: int, *, is_failed_only: bool = False) -> Runs:
        """The newest runs, and how many there are."""
        stream_id = self.joined.stream.id
        with self.database.reading() as connection:
            found = history.runs(connection, stream_id, self.from_us, self.to_us, limit, is_failed_only=is_failed_only)
            facts = history.facts(connection, stream_id, self.to_us)
        ok, failed = self.run_times
        return Runs(found, facts, failed.size, ok.size + failed.size)

    def series(self, points: int) -> StreamSeries:
        """The window in at most `points` slices, none shorter than the probe's interval."""
        from_us, to_us, stream_id = self.from_us, self.to_us, self.joined.stream.id
        width_us = slice_width(from_us, to_us, points, self.joined.probe.interval_us)
        with self.database.reading() as connection:
            spans = states.state_spans(connection, from_us, to_us, stream_id)
            is_generated = history.has_generated(connection, stream_id, from_us, to_us)
        over_time = band(*self.main, from_us, to_us, width_us)
        _, failed = self.run_times
        return StreamSeries(
            over_time,
            slice_counts(failed, from_us, to_us, width_us),
            {
                name: slice_means(*self.samples[name], from_us, to_us, width_us)
                for name in KINDS[self.joined.probe.kind].phases
                if name in self.samples
            },
            spans,
            is_generated,
            _level_changes(over_time),
        )

    def sentence(self) -> str:
        """The stream's state in one sentence."""
        with self.database.reading() as connection:
            newest = history.runs(connection, self.joined.stream.id, 0, 2**62, 1)
        _, values = self.main
        ok, failed = self.run_times
        run = newest[0] if newest else None
        return stream_sentence(
            StreamReading(
                vantage_point=self.joined.vantage_point.name,
                target=self.joined.target.name,
                kind=self.joined.probe.kind,
                state=self.joined.stream.state,
                main=self.joined.main.name,
                median=percentile(values, 0.5) if values.size else None,
                runs=ok.size + failed.size,
                newest=run.quantities if run else {},
                newest_reason=Reason(run.reason) if run and run.reason else None,
                limits=self.joined.probe.limits,
            )
        )


def series(database: Database, joined: Joined, from_us: int, to_us: int, points: int) -> StreamSeries:
    return Reading(database, joined, from_us, to_us).series(points)


def small_series(
    database: Database, streams: Sequence[Joined], from_us: int, to_us: int, points: int
) -> list[tuple[Band, IntArray]]:
    """What each stream is judged by as a band, and its failed runs per slice."""
    with database.reading() as connection:
        ids, quantities = {one.stream.id for one in streams}, {one.judged.name for one in streams}
        measured = history.samples(connection, ids, quantities, from_us, to_us)
        failed = {one: history.run_times(connection, one, from_us, to_us)[1] for one in ids}
    found = []
    for one in streams:
        width_us = slice_width(from_us, to_us, points, one.probe.interval_us)
        own = measured.get((one.stream.id, one.judged.name), _NOTHING)
        counts = slice_counts(failed[one.stream.id], from_us, to_us, width_us)
        found.append((band(*own, from_us, to_us, width_us), counts))
    return found


def introduced(database: Database, joined: Joined, from_us: int, to_us: int) -> tuple[str, list[Joined]]:
    """The stream's sentence and its peers."""
    reading = Reading(database, joined, from_us, to_us)
    return reading.sentence(), reading.peers()


def runs(database: Database, joined: Joined, from_us: int, to_us: int, limit: int, *, is_failed_only: bool) -> Runs:
    return Reading(database, joined, from_us, to_us).newest(limit, is_failed_only=is_failed_only)


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
