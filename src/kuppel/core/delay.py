"""Statistics of one packet train: round-trip summary, loss, delay variation, jitter."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kuppel.core.percentile import percentile
from kuppel.core.proportion import Proportion, wilson


@dataclass(frozen=True, slots=True)
class RoundTripSummary:
    """Round trips of one run in microseconds; the delays are None when no packet came back.

    `p50` and `p95` are over the packets that came back: conditional percentiles, stated beside the loss.
    """

    minimum_us: float | None
    mean_us: float | None
    p50_us: float | None
    p95_us: float | None
    maximum_us: float | None
    loss: Proportion


def round_trip_summary(round_trips_us: Sequence[float | None]) -> RoundTripSummary:
    """Summarise one run's round trips.

    Parameters
    ----------
    round_trips_us : one entry per packet sent, in sending order; None where no reply came within the waiting time.

    References
    ----------
    RFC 2681 (round-trip delay), RFC 7680 §4.1 (loss ratio), RFC 2330 §11.3 (percentiles).
    """
    came_back = np.array([value for value in round_trips_us if value is not None], dtype=np.float64)
    loss = wilson(len(round_trips_us) - came_back.size, len(round_trips_us))
    if came_back.size == 0:
        return RoundTripSummary(None, None, None, None, None, loss)
    return RoundTripSummary(
        float(came_back.min()),
        float(came_back.mean()),
        percentile(came_back, 0.5),
        percentile(came_back, 0.95),
        float(came_back.max()),
        loss,
    )


def ipdv(delays: Sequence[float | None]) -> list[float | None]:
    """IP packet delay variation between consecutive packets of a train, in the unit of `delays`.

    The first entry is undefined (None); a lost packet makes its own entry and the next one undefined.

    References
    ----------
    RFC 3393 §2: ddT = T(i+1) − T(i), selection function "consecutive packets".

    Examples
    --------
    >>> ipdv([20, 10, 20, 25, 20])
    [None, -10, 10, 5, -5]
    """
    variation: list[float | None] = [None]
    for before, after in itertools.pairwise(delays):
        variation.append(None if before is None or after is None else after - before)
    return variation[: len(delays)]


def pdv(delays: Sequence[float | None]) -> list[float | None]:
    """Packet delay variation against the least delay of the sample, in the unit of `delays`; None for a lost packet.

    References
    ----------
    RFC 5481 §4.2: PDV(i) = D(i) − D(min).

    Examples
    --------
    >>> pdv([20, 10, 20, 25, 20])
    [10, 0, 10, 15, 10]
    """
    least = min((one for one in delays if one is not None), default=0)
    return [None if one is None else one - least for one in delays]


def inter_arrival_jitter(send: NDArray[np.int64], receive: NDArray[np.int64]) -> float:
    """Interarrival jitter of one packet stream, in the unit of its arguments.

    Parameters
    ----------
    send, receive : int64 arrays of shape (n,), one entry per *received* packet, in arrival order, of one unit.

    Returns
    -------
    The smoothed estimate after the last packet; 0.0 for fewer than two packets.

    References
    ----------
    RFC 3550 §6.4.1 and appendix A.8: J += (|D| − J) / 16.
    """
    transit = np.asarray(receive, dtype=np.int64) - np.asarray(send, dtype=np.int64)
    jitter = 0.0
    for difference in np.abs(np.diff(transit)):
        jitter += (float(difference) - jitter) / 16
    return jitter
