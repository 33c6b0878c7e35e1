"""How long a packet waits at a link: single-server queues with Poisson arrivals (Kleinrock, Queueing Systems I, 1975)."""

import numpy as np

from kuppel.core.series import FloatArray
from kuppel.lab.world.draw import Generator

# A queue at full load never ends; a real one drops instead.
HIGHEST_LOAD = 0.97


def exponential_waits(load: FloatArray, service_ms: float, shape: tuple[int, ...], draw: Generator) -> FloatArray:
    """Waiting times at an M/M/1 queue, ms: P(W > t) = ρ e^{−(1 − ρ)t/s} (Kleinrock I, §5.12), by inversion.

    Parameters
    ----------
    load : ρ in [0, 1), shape (n,) for times, or () for one.
    shape : of the result, (n, …).
    """
    rho = np.minimum(load, HIGHEST_LOAD).reshape(-1, *[1] * (len(shape) - 1))
    least = 1e-12  # ρ = 0 never waits
    ratio = np.maximum(rho, least) / np.maximum(draw.random(shape), least)
    waits: FloatArray = np.maximum(np.log(ratio), 0.0) * (service_ms / (1 - rho))
    return waits


def constant_waits(load: FloatArray, service_ms: float, shape: tuple[int, ...], draw: Generator) -> FloatArray:
    """Waiting times at an M/D/1 queue, ms: a geometric number of residual services, each uniform (Pollaczek and Khinchine;
    Kleinrock I, §5.7)."""
    rho = np.broadcast_to(np.minimum(load, HIGHEST_LOAD).reshape(-1, *[1] * (len(shape) - 1)), shape)
    # Generator.geometric counts from 1: the trials until a success of probability 1 − ρ.
    ahead = draw.geometric(1 - rho) - 1
    waits = np.zeros(shape)
    left = np.flatnonzero(ahead)
    flat, counts = waits.reshape(-1), ahead.reshape(-1)
    step = 0
    while left.size:
        flat[left] += draw.random(left.size)
        step += 1
        left = left[counts[left] > step]
    return waits * service_ms


def mean_exponential_wait(load: float, service_ms: float) -> float:
    """Mean waiting time at an M/M/1 queue: ρs / (1 − ρ)."""
    return load * service_ms / (1 - load)


def mean_constant_wait(load: float, service_ms: float) -> float:
    """Mean waiting time at an M/D/1 queue: half of that at an M/M/1 queue."""
    return load * service_ms / (2 * (1 - load))
