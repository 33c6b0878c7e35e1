"""A day of made-up history, drawn from the same scenario that the live stand-ins follow."""

import math
from collections.abc import Iterator

from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.core.schedule import start_offset
from kuppel.lab import scenario
from kuppel.lab.scenario import Point, ProbePlan, Service, draw, normal

_TIMEOUT_MS = 5000


def generate(
    plan: ProbePlan, service: Service, point: Point, from_us: int, to_us: int, begun_us: int, facts: dict[str, str]
) -> Iterator[Result]:
    """Results of one stream, one for each of its times in [from_us, to_us) at which it was not silent.

    Only what a stand-in would do is made up; loopback's own times are drawn around what this machine measures.
    """
    offset_us = start_offset(f"history/{plan.name}/{point.name}", plan.interval_us)
    for time_us in range(from_us // plan.interval_us * plan.interval_us + offset_us, to_us, plan.interval_us):
        if time_us < from_us or scenario.is_silent(point, time_us, begun_us):
            continue
        if plan.kind == "http":
            yield _fetch(service, point, time_us, begun_us, facts)
        elif plan.kind == "tcp":
            yield _connect(service, point, time_us, begun_us)
        else:
            yield _reach(service, point, time_us, int(plan.settings["count"]))


def _around(middle_ms: float, *seed: object) -> float:
    return middle_ms * math.exp(0.25 * normal(*seed))


def _fetch(service: Service, point: Point, time_us: int, begun_us: int, facts: dict[str, str]) -> Result:
    treated = scenario.treatment(service, point, time_us, begun_us)
    seed = (service.name, point.name, time_us)
    phases = {
        "name_lookup": _around(0.05, seed, "name"),
        "connect": _around(0.16, seed, "connect"),
        "first_byte": treated.delay_s * 1000 + _around(1.4, seed, "first byte"),
        "transfer": _around(0.12, seed, "transfer"),
    }
    if service.kind == "https":
        phases["tls"] = _around(4.5, seed, "tls")
    total_ms = sum(phases.values())
    tried: tuple[Attempt, ...] = (_attempt(time_us, total_ms),)
    if treated.is_lost:
        note = f"Operation timed out after {_TIMEOUT_MS} milliseconds with 0 bytes received"
        # The second try is another draw; it is lost as rarely as any, so the run fails once in a great while only.
        if draw(seed, "second") < 0.3:
            tried = (_attempt(time_us, _TIMEOUT_MS, Reason.TIMEOUT, note),) * 2
            return Result(time_us, Reason.TIMEOUT, {}, {"address": service.host}, tried)
        tried = (
            _attempt(time_us, _TIMEOUT_MS, Reason.TIMEOUT, note),
            _attempt(time_us + (_TIMEOUT_MS + 500) * 1000, total_ms),
        )
    elif treated.status != 200:
        note = f"status {treated.status}, expected 200"
        reason = Reason.UNEXPECTED_STATUS
        again = scenario.treatment(service, point, time_us + 500_000, begun_us)
        if again.status != 200:
            tried = (_attempt(time_us, total_ms, reason, note), _attempt(time_us + 500_000, total_ms, reason, note))
            detail = {"status": treated.status, "size": len(treated.body), "headers": [], "timings_ms": phases}
            return Result(time_us, reason, {}, facts, tried, detail)
        tried = (_attempt(time_us, total_ms, reason, note), _attempt(time_us + 500_000, total_ms))
    quantities = phases | {
        "total": total_ms,
        "ttfb": total_ms - phases["transfer"],
        "body_size": float(len(service.body)),
    }
    detail = {"status": 200, "size": len(service.body), "headers": [list(one) for one in treated.headers]}
    return Result(time_us, None, quantities, facts, tried, detail)


def _connect(service: Service, point: Point, time_us: int, begun_us: int) -> Result:
    seed = (service.name, point.name, time_us)
    if scenario.is_refusing(time_us, begun_us):
        reason = Reason.CONNECTION_REFUSED
        tried = tuple(
            _attempt(time_us + number * 500_000, 1.0, reason, f"{service.host}: Connection refused") for number in range(2)
        )
        return Result(time_us, reason, {}, {}, tried)
    connect_ms = _around(0.12, seed, "connect")
    name_ms = _around(0.2, seed, "name")
    quantities = {
        "connect": connect_ms,
        "rtt": connect_ms * 0.4,
        "name_lookup": name_ms,
        "total": connect_ms + name_ms,
    }
    return Result(time_us, None, quantities, {"address": service.host}, (_attempt(time_us, quantities["total"]),))


def _reach(service: Service, point: Point, time_us: int, count: int) -> Result:
    seed = (service.name, point.name, time_us)
    share = 0.03 if point.kind == "mobile" else 0.0005
    lost = sum(draw(seed, "lost", number) < share for number in range(count))
    trips = sorted(_around(0.022, seed, "trip", number) for number in range(count - lost))
    quantities = {"sent": float(count), "lost": float(lost), "loss_ratio": lost / count}
    attempt = (_attempt(time_us, count * 100.0),)
    if not trips:
        note = f"{count} packets sent, none answered"
        return Result(
            time_us,
            Reason.NO_REPLY,
            quantities,
            {"address": service.host},
            (_attempt(time_us, 1500.0, Reason.NO_REPLY, note),),
        )
    quantities |= {
        "rtt": trips[(len(trips) + 1) // 2 - 1],
        "rtt_min": trips[0],
        "rtt_mean": sum(trips) / len(trips),
        "rtt_p95": trips[-1],
        "rtt_max": trips[-1],
    }
    return Result(time_us, None, quantities, {"address": service.host}, attempt)


def _attempt(time_us: int, duration_ms: float, reason: Reason | None = None, note: str = "") -> Attempt:
    return Attempt(time_us, round(duration_ms * 1000), reason, note)
