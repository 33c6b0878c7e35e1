"""The time ribbon: how much of the estate was in which state, and how much was measured, in slices of time."""

from collections.abc import Mapping
from dataclasses import dataclass

from kuppel.core.duration import MINUTE_US
from kuppel.core.series import FloatArray, IntArray, covered_shares, slice_starts, slice_width
from kuppel.core.state import State
from kuppel.store import history, inventory, states
from kuppel.store.database import Database


@dataclass(frozen=True, slots=True)
class Ribbon:
    """Shares of stream-time by state, and results per slice; all columns of shape (slices,)."""

    starts_us: IntArray
    width_us: int
    shares: Mapping[State, FloatArray]
    results: IntArray
    streams: int
    first_us: int | None


def ribbon(database: Database, from_us: int, to_us: int, slices: int) -> Ribbon:
    """The window in at most `slices` slices, none shorter than a minute."""
    width_us = slice_width(from_us, to_us, slices, MINUTE_US)
    starts = slice_starts(from_us, to_us, width_us)
    with database.reading() as connection:
        spans = states.spans(connection, from_us, to_us)
        results = history.runs_per_slice(connection, starts, width_us, from_us, to_us)
        streams = len(inventory.active_streams(connection))
        first, _ = history.span(connection)
    shares = {}
    for state in State:
        own = spans.state == state.value
        shares[state] = covered_shares(spans.from_us[own], spans.to_us[own], streams, starts, width_us)
    return Ribbon(starts, width_us, shares, results, streams, first)
