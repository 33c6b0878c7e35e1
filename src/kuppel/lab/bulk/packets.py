"""Trains of packets in columns: reach, two-way, call."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.voice import CODECS, Codec, bursts, rating
from kuppel.lab.bulk.columns import (
    Columns,
    Tried,
    arrival_jitter,
    blanked,
    lateness,
    microseconds,
    no_reasons,
    percentiles,
    train_figures,
    trip_statistics,
)
from kuppel.lab.world import exchange, train
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.exchange import Ends
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.world import Crossing, World

# What the kernel takes between its two stamps.
STAMPED_MS = 0.02
_REFLECTED_MS = 0.02


def reach(
    world: World, point: str, settings: Mapping[str, Any], _application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.icmp`."""
    host = named(world, point, settings)
    count, gap_ms, timeout_ms = settings["count"], settings["interval_ms"], settings["timeout_ms"]
    ends = Ends(point, host, draw.random(times_us.size))
    looked_ms = exchange.name_lookups(world, point, times_us, draw)
    forth, back = train.trains(world, ends, times_us, draw, octets=settings["size"], count=count, gap_ms=gap_ms)
    trips = forth.delays_ms + back.delays_ms + STAMPED_MS + lateness(world, point, times_us, draw)[:, None]
    good = ~(forth.lost | back.lost) & (trips <= timeout_ms)
    told = trip_statistics(trips, good)
    sent_ms = np.arange(count) * gap_ms
    # The probe hands over what it received first, as sent; as in the probe, J is over replies minus requests.
    jitter = arrival_jitter(sent_ms, sent_ms + trips, good)
    reasons = no_reasons(times_us.size)
    reasons[told.came_back == 0] = Reason.NO_REPLY
    values = train_figures(told, trips, good) | {
        "jitter": jitter,
    }
    unnamed = ~np.isfinite(looked_ms) | (looked_ms > timeout_ms)
    reasons[unnamed] = Reason.NAME_TIMEOUT
    waited = np.where(good.all(axis=1), np.minimum(trips[:, -1], timeout_ms), timeout_ms)
    durations = np.where(unnamed, timeout_ms, looked_ms + (count - 1) * gap_ms + waited)
    return Tried(
        blanked(values, ~unnamed),
        reasons,
        microseconds(durations),
        {Reason.NO_REPLY: f"{count} packets sent, none answered", Reason.NAME_TIMEOUT: _unnamed(timeout_ms)},
        {"address": world.topology.hosts[host].address},
    )


def two_way(
    world: World, point: str, settings: Mapping[str, Any], _application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.udp`, clocks not known to agree."""
    host = named(world, point, settings)
    count, gap_ms = settings["count"], settings["interval_ms"]
    ends = Ends(point, host, draw.random(times_us.size))
    looked_ms = exchange.name_lookups(world, point, times_us, draw)
    forth, back = train.trains(world, ends, times_us, draw, octets=settings["size"], count=count, gap_ms=gap_ms)
    good = ~(forth.lost | back.lost)
    trips = forth.delays_ms + back.delays_ms + lateness(world, point, times_us, draw)[:, None]
    told = trip_statistics(trips, good)
    by_way = _losses(forth, back)
    sent_ms = np.arange(count) * gap_ms
    reasons = no_reasons(times_us.size)
    reasons[told.came_back == 0] = Reason.NO_REPLY
    values = train_figures(told, trips, good) | {
        "loss_forth_ratio": _ratio(by_way.forth, by_way.known),
        "loss_back_ratio": _ratio(by_way.back, by_way.known - by_way.forth),
        "pdv_forth": _variation(forth.delays_ms, good),
        "pdv_back": _variation(back.delays_ms, good),
        "reordered_ratio": _reordered(sent_ms + trips, good),
        "duplicates": np.where(told.came_back > 0, 0.0, np.nan),
    }
    return Tried(
        values,
        reasons,
        microseconds(looked_ms + count * gap_ms),
        {Reason.NO_REPLY: f"{count} packets sent, none answered"},
        {"address": world.topology.hosts[host].address},
    )


def call(
    world: World, point: str, settings: Mapping[str, Any], application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.voice`: a call set up, then speech both ways, each rated."""
    size = times_us.size
    host = named(world, point, settings)
    timeout_ms = settings["timeout_ms"]
    gap_ms, buffer_ms = float(settings["packet_ms"]), float(settings["buffer_ms"])
    count = round(settings["duration_s"] * 1000 / gap_ms)
    codec = CODECS[settings["codec"]]
    octets = round(codec.frame_octets * gap_ms / codec.frame_ms) + 12
    looked_ms = exchange.name_lookups(world, point, times_us, draw)
    ends = Ends(point, host, draw.random(size))
    set_up = exchange.calls(world, ends, world.applications[application], times_us, draw)
    again_ms = exchange.name_lookups(world, point, times_us, draw)
    speech = Ends(point, host, draw.random(size))
    forth, back = train.trains(world, speech, times_us, draw, octets=octets, count=count, gap_ms=gap_ms)
    late = lateness(world, point, times_us, draw)[:, None]
    good = ~(forth.lost | back.lost)
    trips = forth.delays_ms + back.delays_ms + late
    told = trip_statistics(trips, good)
    sent_ms = np.arange(count) * gap_ms
    left_ms = sent_ms + forth.delays_ms + _REFLECTED_MS
    ways = {
        "forth": _rated(codec, gap_ms, buffer_ms, forth.delays_ms, good, forth.lost, told.least / 2),
        "back": _rated(codec, gap_ms, buffer_ms, back.delays_ms + late, good, back.lost & ~forth.lost, told.least / 2),
    }
    lost = count - told.came_back
    rated: Columns = {
        "mos": np.where(ways["forth"]["rating"] <= ways["back"]["rating"], ways["forth"]["score"], ways["back"]["score"]),
        "mos_forth": ways["forth"]["score"],
        "mos_back": ways["back"]["score"],
        "rating": np.minimum(ways["forth"]["rating"], ways["back"]["rating"]),
        "mouth_to_ear": told.least / 2 + buffer_ms + gap_ms + codec.lookahead_ms,
        "rtt": told.middle,
        "rtt_min": told.least,
        "loss_forth_ratio": ways["forth"]["lost"],
        "loss_back_ratio": ways["back"]["lost"],
        "discard_ratio": np.maximum(ways["forth"]["discarded"], ways["back"]["discarded"]),
        "burst_loss_ratio": np.maximum(ways["forth"]["density"], ways["back"]["density"]),
        "sent": np.full(size, float(count)),
        "lost": lost.astype(np.float64),
        "jitter": arrival_jitter(left_ms, left_ms + back.delays_ms + late, good),
        "pdv_forth": _variation(forth.delays_ms, good),
        "pdv_back": _variation(back.delays_ms, good),
    }
    values = blanked(rated, told.came_back > 0)
    values["loss_ratio"] = lost / count
    values["call_setup"] = set_up.final_ms
    values["ringing"] = set_up.ringing_ms
    unset = set_up.final_ms > timeout_ms
    refused = ~unset & (set_up.statuses != 200)
    unnamed = (looked_ms > timeout_ms) | (again_ms > timeout_ms)
    reasons = no_reasons(size)
    reasons[told.came_back == 0] = Reason.NO_REPLY
    reasons[refused] = Reason.CALL_REFUSED
    reasons[unset] = Reason.TIMEOUT
    reasons[unnamed] = Reason.NAME_TIMEOUT
    durations = looked_ms + np.where(unset, timeout_ms, set_up.final_ms + again_ms + count * gap_ms)
    return Tried(
        blanked(values, ~(unset | refused | unnamed)),
        reasons,
        microseconds(np.where(unnamed, timeout_ms, durations)),
        {
            Reason.NO_REPLY: f"{count} packets sent, none answered",
            Reason.CALL_REFUSED: f"{settings['sip']}: 503 Service Unavailable",
            Reason.TIMEOUT: f"no answer from {world.topology.hosts[host].address} within {timeout_ms / 1000:g} s",
            Reason.NAME_TIMEOUT: _unnamed(timeout_ms),
        },
        {"address": world.topology.hosts[host].address, "codec": codec.name},
    )


def _rated(
    codec: Codec,
    packet_ms: float,
    buffer_ms: float,
    transits_ms: FloatArray,
    good: Flags,
    gone: Flags,
    network_ms: FloatArray,
) -> Columns:
    """One way of calls as `core.voice.judge` has it. What went missing elsewhere is not in this way's sequence, but for
    what came after the last answer, of which nobody can say where it was lost."""
    size = good.shape[0]
    after_last = np.cumsum(good[:, ::-1], axis=1)[:, ::-1] == 0
    inside = good | gone | after_last
    least = np.where(good, transits_ms, np.inf).min(axis=1)
    played = good & (transits_ms - least[:, None] <= buffer_ms)
    totals = inside.sum(axis=1)
    lost = (inside & ~good).sum(axis=1)
    discarded = (good & ~played).sum(axis=1)
    missing = lost + discarded
    ratio, density = np.ones(size), np.zeros(size)
    for row in np.flatnonzero((missing > 0) & (totals > missing)).tolist():
        found = bursts(played[row][inside[row]].tolist())
        ratio[row], density[row] = found.burst_ratio, found.burst_density
    with np.errstate(invalid="ignore", divide="ignore"):
        share = missing / totals
        percent = share * 100
        impaired = codec.impairment + (95 - codec.impairment) * percent / (percent / ratio + codec.robustness)
        r = np.maximum(0.0, _unimpaired(network_ms + buffer_ms + packet_ms + codec.lookahead_ms) - impaired)
        score = np.clip(1 + 0.035 * r + r * (r - 60) * (100 - r) * 7e-6, 1.0, 4.5)
        return {
            "rating": r, "score": score, "lost": lost / totals, "discarded": discarded / totals, "density": density,
        }  # fmt: skip


_DELAYS_MS = np.concatenate([np.arange(0, 500, 0.25), np.arange(500, 4001, 5.0)])
_RATINGS = np.array([rating(one) for one in _DELAYS_MS.tolist()])


def _unimpaired(delays_ms: FloatArray) -> FloatArray:
    """R of a way without loss, by its delay: G.107 at steps of a quarter of a millisecond, straight lines between."""
    found: FloatArray = np.interp(delays_ms, _DELAYS_MS, _RATINGS)
    return found


class _ByWay:
    """How many packets were lost on which way, by the reflector's count: known up to the last answer."""

    def __init__(self, forth: IntArray, back: IntArray, known: IntArray) -> None:
        self.forth, self.back, self.known = forth, back, known


def _losses(forth: Crossing, back: Crossing) -> _ByWay:
    good = ~(forth.lost | back.lost)
    known = np.cumsum(good[:, ::-1], axis=1)[:, ::-1] > 0
    return _ByWay((forth.lost & known).sum(axis=1), (~forth.lost & back.lost & known).sum(axis=1), known.sum(axis=1))


def _ratio(part: IntArray, whole: IntArray) -> FloatArray:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(whole > 0, part / whole, np.nan)


def _variation(delays_ms: FloatArray, good: Flags) -> FloatArray:
    """The 95th percentile of the delay variation against the fastest packet (RFC 5481)."""
    ordered = np.sort(np.where(good, delays_ms, np.inf), axis=1)
    counts = good.sum(axis=1).astype(np.int64)
    return percentiles(ordered, counts, 0.95) - np.where(counts > 0, ordered[:, 0], np.nan)


def _reordered(received_ms: FloatArray, good: Flags) -> FloatArray:
    """The share of packets that came after one that was sent later (RFC 4737)."""
    # Without repeats: a packet is late when one sent after it arrived before it did.
    soonest_later = np.minimum.accumulate(np.where(good, received_ms, np.inf)[:, ::-1], axis=1)[:, ::-1]
    late = good[:, :-1] & (soonest_later[:, 1:] < received_ms[:, :-1])
    return _ratio(late.sum(axis=1), good.sum(axis=1))


def _unnamed(timeout_ms: float) -> str:
    return f"no answer within {timeout_ms / 1000:g} s"


def named(world: World, point: str, settings: Mapping[str, Any]) -> str:
    """The host that a probe's settings name, for IPv4.

    Raises
    ------
    ValueError
        where both ends have IPv6 and the settings leave the family open: a probe would take IPv6 then, and these columns
        would not be what it measures.
    """
    name = str(settings["host"])
    if settings.get("family") == "ipv6" or (
        settings.get("family") == "auto" and (name, 6) in world.names and world.topology.hosts[point].address_v6
    ):
        raise ValueError(f"{name} from {point}: only IPv4 is made up in columns; choose family ipv4")
    return world.hosts_by_address[world.names.get((name, 4), name)].name
