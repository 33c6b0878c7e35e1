"""The time ribbon: how much of the estate was in which state, and how much was measured, in slices of time."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kuppel.core.arch import Arch, ArchScope, arches
from kuppel.core.duration import MINUTE_US
from kuppel.core.series import FloatArray, IntArray, covered_shares, slice_starts, slice_width
from kuppel.core.state import State
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.store import history, states
from kuppel.store.database import Database
from kuppel.store.states import Spans

# More than a screen can tell apart.
_MOST_ARCHES = 40


@dataclass(frozen=True, slots=True)
class Ribbon:
    """Shares of stream-time by state, and whether anything was measured, columns of shape (slices,); and what was in
    trouble together."""

    starts_us: IntArray
    width_us: int
    shares: Mapping[State, FloatArray]
    is_measured: NDArray[np.bool_]
    streams: int
    first_us: int | None
    arches: list[Arch]


def ribbon(database: Database, from_us: int, to_us: int, slices: int) -> Ribbon:
    """The window in at most `slices` slices, none shorter than a minute."""
    width_us = slice_width(from_us, to_us, slices, MINUTE_US)
    starts = slice_starts(from_us, to_us, width_us)
    with database.reading() as connection:
        spans = states.spans(connection, from_us, to_us)
        is_measured = history.measured(connection, starts, width_us, from_us, to_us)
        first, _ = history.span(connection)
    streams = joined_streams(database)
    shares = {}
    for state in State:
        own = spans.state == state.value
        shares[state] = covered_shares(spans.from_us[own], spans.to_us[own], len(streams), starts, width_us)
    return Ribbon(starts, width_us, shares, is_measured, len(streams), first, _arches(streams, spans, starts, width_us))


def _arches(streams: Sequence[Joined], spans: Spans, starts: IntArray, width_us: int) -> list[Arch]:
    rows = {one.stream.id: row for row, one in enumerate(streams)}
    found = {state: np.zeros((len(streams), starts.size), dtype=bool) for state in (State.DEGRADED, State.BREACHED)}
    for state, marks in found.items():
        own = spans.state == state.value
        firsts = (spans.from_us[own] - starts[0]) // width_us
        lasts = (spans.to_us[own] - 1 - starts[0]) // width_us
        for stream_id, first, last in zip(spans.stream_id[own].tolist(), firsts.tolist(), lasts.tolist(), strict=True):
            if stream_id in rows:
                marks[rows[stream_id], max(first, 0) : last + 1] = True
    names: dict[ArchScope, list[str]] = {
        "vantage point": [one.vantage_point.name for one in streams],
        "target": [one.target.name for one in streams],
        "provider": [one.vantage_point.provider for one in streams],
    }
    return arches(found[State.DEGRADED], found[State.BREACHED], names, _MOST_ARCHES)
