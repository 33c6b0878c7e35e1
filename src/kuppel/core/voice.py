"""Conversational voice as networks carry it: the E-model of ITU-T G.107, codecs of G.113, a jitter buffer, loss in bursts.

Narrow-band telephony. R rates a connection from 0 to 100; it is told as a mean opinion score from 1 to 4.5.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.series import FloatArray


@dataclass(frozen=True, slots=True)
class Codec:
    """A speech codec: how a packet of it looks, and how it impairs (ITU-T G.113 appendix I, provisional planning values).

    `impairment` is Ie, `robustness` is Bpl, both for the packet sizes of G.113. `lookahead_ms` is what the coder waits for
    beyond a frame.
    """

    name: str
    payload_type: int
    clock_hz: int
    frame_ms: float
    frame_octets: int
    lookahead_ms: float
    impairment: float
    robustness: float


CODECS = {
    one.name: one
    for one in (
        Codec("G.711", 0, 8000, 10, 80, 0, 0, 4.3),
        Codec("G.711 with concealment", 0, 8000, 10, 80, 0, 0, 25.1),
        Codec("G.729A", 18, 8000, 10, 10, 5, 11, 19.0),
        Codec("G.723.1", 4, 8000, 30, 24, 7.5, 15, 16.1),
        Codec("GSM EFR", 96, 8000, 20, 31, 0, 5, 10.0),
    )
}


def effective_impairment(codec: Codec, loss_ratio: float, burst_ratio: float = 1.0) -> float:
    """Ie,eff: what the codec and the loss of packets take from R (ITU-T G.107 §7.5).

    `burst_ratio` is BurstR: 1 for losses that do not depend on each other, more for bursts.

    >>> round(effective_impairment(CODECS["G.729A"], 0.02, 2), 2)
    19.4
    """
    percent = loss_ratio * 100
    return codec.impairment + (95 - codec.impairment) * percent / (percent / burst_ratio + codec.robustness)


def rating(one_way_ms: float, impairment: float = 0.0, *, round_trip_ms: float | None = None) -> float:
    """R for a mouth-to-ear delay Ta and an effective equipment impairment, every other parameter at its default (G.107).

    Parameters
    ----------
    round_trip_ms : Tr of the echo path; twice the one-way delay if left out. T is taken as Ta.

    Examples
    --------
    >>> round(rating(0), 1)
    93.2
    """
    signal_to_noise, simultaneous = _fixed(one_way_ms)
    delay = _delay_impairment(one_way_ms, 2 * one_way_ms if round_trip_ms is None else round_trip_ms, signal_to_noise)
    return signal_to_noise - simultaneous - delay - impairment


# Default values, G.107 table 2, by their names there.
_SLR, _RLR, _STMR, _LSTR, _DS, _TELR, _WEPL = 8.0, 2.0, 15.0, 18.0, 3.0, 65.0, 110.0
_NC, _NFOR, _PS, _PR, _QDU = -70.0, -64.0, 35.0, 35.0, 1.0


def _noise() -> float:
    """No: all noise together, in dBm0p (G.107 §7.2)."""
    olr = _SLR + _RLR
    nos = _PS - _SLR - _DS - 100 + 0.004 * (_PS - olr - _DS - 14) ** 2
    pre = _PR + 10 * math.log10(1 + 10 ** ((10 - _LSTR) / 10))
    nor = _RLR - 121 + pre + 0.008 * (pre - 35) ** 2
    return 10 * math.log10(sum(math.pow(10, one / 10) for one in (_NC, nos, nor, _NFOR + _RLR)))


def _fixed(one_way_ms: float) -> tuple[float, float]:
    """Ro, the basic signal-to-noise ratio, and Is, what impairs at the same time as the voice (G.107 §7.2, §7.3)."""
    noise = _noise()
    ro = 15 - 1.5 * (_SLR + noise)
    x = _SLR + _RLR + 0.2 * (64 + noise - _RLR)
    iolr: float = 20 * ((1 + (x / 8) ** 8) ** (1 / 8) - x / 8)
    stmro = -10 * math.log10(10 ** (-_STMR / 10) + math.exp(-one_way_ms / 4) * 10 ** (-_TELR / 10))
    ist = (
        12 * (1 + ((stmro - 13) / 6) ** 8) ** (1 / 8)
        - 28 * (1 + ((stmro + 1) / 19.4) ** 35) ** (1 / 35)
        - 13 * (1 + ((stmro - 3) / 33) ** 13) ** (1 / 13)
        + 29
    )
    q = 37 - 15 * math.log10(_QDU)
    g = 1.07 + 0.258 * q + 0.0602 * q**2
    iq = 15 * math.log10(1 + 10 ** ((ro - 100) / 15 + 46 / 8.4 - g / 9) + 10 ** (46 / 30 - g / 40))
    return ro, float(iolr + ist + iq)


def _delay_impairment(one_way_ms: float, round_trip_ms: float, ro: float) -> float:
    """Id: talker echo, listener echo, and delay by itself (G.107 §7.4)."""
    noise = _noise()
    talker = 0.0
    if one_way_ms >= 1:
        terv = _TELR - 40 * math.log10((1 + one_way_ms / 10) / (1 + one_way_ms / 150)) + 6 * math.exp(-0.3 * one_way_ms**2)
        gap = -1.5 * (noise - _RLR) - (80 + 2.5 * (terv - 14))
        talker = (gap / 2 + math.sqrt(gap**2 / 4 + 100) - 1) * (1 - math.exp(-one_way_ms))
    gap = ro - 10.5 * (_WEPL + 7) * math.pow(round_trip_ms + 1, -0.25)
    listener = gap / 2 + math.sqrt(gap**2 / 4 + 169)
    return talker + listener + absolute_delay_impairment(one_way_ms)


def absolute_delay_impairment(one_way_ms: float) -> float:
    """Idd: what delay takes from R even without any echo; 0 up to 100 ms (G.107 §7.4).

    >>> [round(absolute_delay_impairment(ms), 3) for ms in (100, 150, 200, 300, 400)]
    [0.0, 0.164, 3.044, 14.761, 24.07]
    """
    if one_way_ms <= 100:
        return 0.0
    x = math.log2(one_way_ms / 100)
    return 25 * (math.pow(1 + x**6, 1 / 6) - 3 * math.pow(1 + (x / 3) ** 6, 1 / 6) + 2)


def mean_opinion_score(r: float) -> float:
    """The mean opinion score (conversational quality, estimated) for a rating (G.107 annex B); from 1 to 4.5.

    >>> round(mean_opinion_score(93.2), 2)
    4.41
    """
    if r <= 0:
        return 1.0
    if r >= 100:
        return 4.5
    # The cubic dips below 1 for ratings under 6.5.
    return max(1.0, 1 + 0.035 * r + r * (r - 60) * (100 - r) * 7e-6)


def good_or_better(r: float) -> float:
    """GoB: the share of people who would call it good or better (G.107 annex B)."""
    return _normal((r - 60) / 16)


def poor_or_worse(r: float) -> float:
    """PoW: the share of people who would call it poor or worse (G.107 annex B)."""
    return _normal((45 - r) / 16)


def _normal(x: float) -> float:
    return 0.5 * (1 + math.erf(x / math.sqrt(2)))


@dataclass(frozen=True, slots=True)
class Playout:
    """What a jitter buffer made of a stream: which packets were played, which never came, which came too late."""

    lost: int
    discarded: int
    is_played: tuple[bool, ...]
    network_ms: float | None


def play(transits_ms: Sequence[float | None], buffer_ms: float) -> Playout:
    """A fixed jitter buffer, which holds the fastest packet for `buffer_ms` and has no use for one that comes later.

    Parameters
    ----------
    transits_ms : by packet the time from sending to receiving, None for a lost one. An unknown difference of the two clocks
        may be in all of them alike: only differences count.
    """
    known = [one for one in transits_ms if one is not None]
    least = min(known, default=None)
    played = tuple(one is not None and least is not None and one - least <= buffer_ms for one in transits_ms)
    lost = len(transits_ms) - len(known)
    return Playout(lost, len(transits_ms) - lost - sum(played), played, least)


@dataclass(frozen=True, slots=True)
class Bursts:
    """Loss in bursts and in the gaps between them (RFC 3611 §4.7.2). Densities are shares of packets not played; lengths
    are mean numbers of packets, 0 where there is none. `burst_ratio` is G.107's BurstR."""

    burst_density: float
    gap_density: float
    burst_packets: float
    gap_packets: float
    burst_ratio: float


def bursts(is_played: Sequence[bool], gmin: int = 16) -> Bursts:
    """Bursts of a stream: a burst begins and ends with a packet not played, and holds no `gmin` played ones in a row.

    A single loss with `gmin` good packets on either side belongs to the gap.

    >>> stream = [True] * 20 + [False, True, False] + [True] * 20 + [False] + [True] * 20
    >>> bursts(stream).burst_packets, round(bursts(stream).burst_density, 3)
    (3.0, 0.667)
    """
    losses = [at for at, good in enumerate(is_played) if not good]
    groups: list[list[int]] = []
    for at in losses:
        if groups and at - groups[-1][-1] - 1 < gmin:
            groups[-1].append(at)
        else:
            groups.append([at])
    inside = [group for group in groups if len(group) > 1]
    burst_total = sum(group[-1] - group[0] + 1 for group in inside)
    burst_lost = sum(len(group) for group in inside)
    gap_total = len(is_played) - burst_total
    gap_lost = len(losses) - burst_lost
    return Bursts(
        burst_lost / burst_total if burst_total else 0.0,
        gap_lost / gap_total if gap_total else 0.0,
        burst_total / len(inside) if inside else 0.0,
        gap_total / (len(inside) + 1) if gap_total else 0.0,
        burst_ratio(is_played),
    )


def burst_ratio(is_played: Sequence[bool]) -> float:
    """BurstR: how long runs of losses are against those of independent losses of the same share (G.107 §7.5); at least 1.

    >>> burst_ratio([True, False, False, True])
    1.0
    >>> round(burst_ratio([True] * 6 + [False] * 4), 2)
    2.4
    """
    played = np.asarray(is_played, dtype=bool)
    lost = int(np.count_nonzero(~played))
    if lost in (0, len(played)):
        return 1.0
    runs = int(np.count_nonzero(~played & np.concatenate(([True], played[:-1]))))
    return max(1.0, lost / runs * (1 - lost / len(played)))


@dataclass(frozen=True, slots=True)
class Judged:
    """One way of a call. `mouth_to_ear_ms` is the delay that a listener has."""

    rating: float
    score: float
    loss_ratio: float
    discard_ratio: float
    mouth_to_ear_ms: float
    bursts: Bursts


def judge(
    codec: Codec, packet_ms: float, transits_ms: Sequence[float | None], network_ms: float, buffer_ms: float
) -> Judged:
    """How one way of a call sounds.

    Parameters
    ----------
    network_ms : the one-way delay of the fastest packet.
    """
    total = len(transits_ms)
    playout = play(transits_ms, buffer_ms)
    found = bursts(playout.is_played)
    missing = (playout.lost + playout.discarded) / total
    delay_ms = network_ms + buffer_ms + packet_ms + codec.lookahead_ms
    r = max(0.0, rating(delay_ms, effective_impairment(codec, missing, found.burst_ratio)))
    return Judged(r, mean_opinion_score(r), playout.lost / total, playout.discarded / total, delay_ms, found)


def transits(sent_ns: Sequence[int], received_ns: Sequence[int | None]) -> list[float | None]:
    """From sending to receiving, in ms."""
    return [None if got is None else (got - sent) / 1e6 for sent, got in zip(sent_ns, received_ns, strict=True)]


def spread(transits_ms: Sequence[float | None]) -> FloatArray:
    """Delay variation against the fastest packet (PDV, RFC 5481), in ms, of the packets that came."""
    known = np.array([one for one in transits_ms if one is not None], dtype=np.float64)
    return known - known.min() if len(known) else known
