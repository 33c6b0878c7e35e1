"""How a link is doing at given times: load, signal, and what packets then suffer."""

from functools import lru_cache

import numpy as np

from kuppel.core.duration import DAY_US, MINUTE_US
from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world import loss, queueing
from kuppel.lab.world.draw import Generator, generator
from kuppel.lab.world.effect import Effects
from kuppel.lab.world.rhythm import busy_share
from kuppel.lab.world.topology import Link

_MINUTES = DAY_US // MINUTE_US
# Packets that others send are this long on average, in octets.
_MEAN_PACKET = 800
# How much a minute's load differs from what the hour and the weekday say, as a factor's logarithm; and a signal, in dB.
_LOAD_SPREAD = 0.18
_SIGNAL_SPREAD = 1.5
# A station gives up after so many tries; each waits twice as long as the one before (IEEE 802.11, from memory).
_MOST_TRIES = 7
_FIRST_TRY_MS = 0.4
_AIRTIME_MS = 0.8


@lru_cache(maxsize=4096)
def _minutes(seed: int, what: str, name: str, day: int) -> FloatArray:
    """A standard normal number for each minute of a day: who shares a link shares its bad minutes."""
    return generator(seed, what, name, day).standard_normal(_MINUTES)


def by_minute(seed: int, what: str, name: str, times_us: IntArray) -> FloatArray:
    found = np.empty(times_us.size)
    days = times_us // DAY_US
    for day in np.unique(days).tolist():
        own = days == day
        found[own] = _minutes(seed, what, name, day)[times_us[own] % DAY_US // MINUTE_US]
    return found


def load(seed: int, link: Link, effects: Effects, times_us: IntArray) -> FloatArray:
    """Utilisation at each time; above 1 where more is sent than the link carries."""
    found = _usual_load(seed, link.name, link.load, times_us.tobytes())
    more = effects.value("load", link.name, times_us)
    return found if more is None else found + more


@lru_cache(maxsize=64)
def _usual_load(seed: int, name: str, busiest: float, times: bytes) -> FloatArray:
    """Remembered: the exchanges of a run cross the same links at the same times, again and again."""
    times_us = np.frombuffer(times, dtype=np.int64)
    usual = busiest * busy_share(times_us) * np.exp(_LOAD_SPREAD * by_minute(seed, "load", name, times_us))
    found: FloatArray = np.minimum(usual, 0.9)
    found.setflags(write=False)
    return found


def signal(seed: int, link: Link, effects: Effects, times_us: IntArray) -> FloatArray:
    """The signal of a link by radio, dBm."""
    assert link.wifi is not None  # only asked of such links
    found: FloatArray = link.wifi.signal_dbm + _SIGNAL_SPREAD * by_minute(seed, "signal", link.name, times_us)
    more = effects.value("signal", link.name, times_us)
    return found if more is None else found + more


def try_fails(signal_dbm: FloatArray) -> FloatArray:
    """The share of single tries by radio that fail, by the signal: hardly any at −60 dBm, every second below −78 (made
    up)."""
    found: FloatArray = 0.7 / (1 + np.exp((signal_dbm + 75) / 2.6))
    return found


def is_lively(link: Link, effects: Effects, from_us: int, to_us: int) -> bool:
    """Whether packets may suffer differently on a link, or anything is wrong with it."""
    return not link.is_steady or any(
        effects.of(kind, link.name, from_us, to_us) for kind in ("delay", "load", "loss", "bursts")
    )


def suffered(
    seed: int, link: Link, effects: Effects, times_us: IntArray, count: int, gap_ms: float, draw: Generator
) -> tuple[FloatArray, FloatArray, loss.Flags | None]:
    """What trains of packets suffer on a lively link beyond its own delay.

    Returns
    -------
    waits in ms, shape (n, count) or (n, 1); the share lost one by one, shape (n,); which packets bursts take, shape (n,
    count), or None
    """
    shape = (times_us.size, count)
    lost = np.full(times_us.size, link.loss)
    waits = np.zeros((times_us.size, 1))
    for_bursts = np.full(times_us.size, link.bursts.share if link.bursts else 0.0)
    burst_ms = link.bursts.mean_ms if link.bursts else 0.0
    if link.queue != "none" or effects.value("load", link.name, times_us) is not None:
        waits, dropped = _queue(seed, link, effects, times_us, shape, draw)
        lost = 1 - (1 - lost) * (1 - dropped)
    if link.jitter_ms:
        waits = waits + link.jitter_ms * draw.random(shape)
    if link.wifi is not None:
        by_radio, failed, share = _radio(seed, link, effects, times_us, shape, draw)
        waits, lost = waits + by_radio, 1 - (1 - lost) * (1 - failed)
        for_bursts, burst_ms = np.maximum(for_bursts, share), burst_ms or 250.0
    more = effects.value("delay", link.name, times_us)
    if more is not None:
        # A detour is not of one length for all: its queues add some of their own.
        waits = waits + (more * (1 + 0.02 * np.abs(draw.standard_normal(times_us.size))))[:, None]
    more = effects.value("loss", link.name, times_us)
    if more is not None:
        lost = 1 - (1 - lost) * (1 - more)
    found = effects.of("bursts", link.name, int(times_us.min()), int(times_us.max()))
    if found:
        more = effects.value("bursts", link.name, times_us)
        assert more is not None  # there is one that touches these times
        for_bursts, burst_ms = np.minimum(for_bursts + more, 0.95), found[0].length_ms
    taken = loss.bursty_losses(for_bursts, burst_ms, gap_ms, count, draw) if for_bursts.any() else None
    return waits, lost, taken


def _queue(
    seed: int, link: Link, effects: Effects, times_us: IntArray, shape: tuple[int, int], draw: Generator
) -> tuple[FloatArray, FloatArray]:
    """Waits at the link's queue, and the share that finds it full."""
    wanted = load(seed, link, effects, times_us)
    service_ms = link.serialisation_ms(_MEAN_PACKET)
    wait = queueing.constant_waits if link.queue == "constant" else queueing.exponential_waits
    waits = np.minimum(wait(wanted, service_ms, shape, draw), link.buffer_ms)
    over = np.maximum(wanted - 1, 0)
    if over.any():
        # More comes than goes: the buffer stays nearly full, and what does not fit is dropped.
        full = (over > 0)[:, None]
        waits = np.where(full, link.buffer_ms * (0.75 + 0.25 * draw.random(shape)), waits)
    return waits, over / np.maximum(wanted, 1)


def _radio(
    seed: int, link: Link, effects: Effects, times_us: IntArray, shape: tuple[int, int], draw: Generator
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Waits for the air and for repeated tries, the share given up, and the share of the time in a bad spell."""
    dbm = signal(seed, link, effects, times_us)
    fails = try_fails(dbm)
    repeated = np.minimum(draw.geometric(1 - fails[:, None], shape) - 1, _MOST_TRIES - 1)
    waits = draw.standard_exponential(shape) * _AIRTIME_MS
    again = np.flatnonzero(repeated)
    flat, tries = waits.reshape(-1), repeated.reshape(-1)
    flat[again] += _FIRST_TRY_MS * (2.0 ** tries[again] - 1) * (0.5 + 0.5 * draw.random(again.size))
    spells = 0.075 / (1 + np.exp((dbm + 76) / 1.5))
    return waits, fails**_MOST_TRIES, np.where(spells < 1e-4, 0.0, spells)
