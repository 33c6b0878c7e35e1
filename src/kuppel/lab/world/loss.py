"""Loss in bursts: a link that is now and then bad for a while (Gilbert, 1960; Elliott, 1963), in continuous time.

The chain turns bad at rate α and good again at rate β; in the bad state every packet is lost. For packets that follow each
other after a gap of Δ it is the discrete chain with p = π(1 − e^{−(α+β)Δ}), r = (1 − π)(1 − e^{−(α+β)Δ}) and
π = α/(α + β): the stationary loss is π, the mean length of a burst 1/r packets.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kuppel.core.series import FloatArray
from kuppel.lab.world.draw import Generator

Flags = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Bursts:
    """Share of the time that a link is bad, and how long it then stays bad on average, ms."""

    share: float
    mean_ms: float


def turning(share: FloatArray, mean_ms: float, gap_ms: float) -> tuple[FloatArray, FloatArray]:
    """(p, r): the probabilities that the next packet finds a good link bad, and a bad one good."""
    # β = 1/mean; α = β π/(1 − π); α + β = β/(1 − π)
    forgotten = 1 - np.exp(-gap_ms / (mean_ms * (1 - share)))
    return share * forgotten, (1 - share) * forgotten


def bursty_losses(share: FloatArray, mean_ms: float, gap_ms: float, count: int, draw: Generator) -> Flags:
    """Which packets of trains of `count`, `gap_ms` apart, are lost; each train begins in the stationary state.

    Parameters
    ----------
    share : shape (n,), in [0, 1).

    Returns
    -------
    shape (n, count)
    """
    lost = np.zeros((share.size, count), dtype=bool)
    troubled = np.flatnonzero(share > 0)
    if troubled.size == 0:
        return lost
    own = share[troubled]
    p, r = turning(own, mean_ms, gap_ms)
    is_bad = draw.random(own.size) < own
    columns = np.empty((count, own.size), dtype=bool)
    for at in range(count):
        columns[at] = is_bad
        drawn = draw.random(own.size)
        is_bad = np.where(is_bad, drawn >= r, drawn < p)
    lost[troubled] = columns.T
    return lost
