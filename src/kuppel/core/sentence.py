"""What a stream's state means, in one plain sentence: who, what, how much, against what.

The sentences hold no times of day: those are local to the reader, who gets them beside the sentence.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kuppel.core.limit import Level, Limit
from kuppel.core.quantity import quantity_named
from kuppel.core.reason import SENTENCES, Reason
from kuppel.core.state import State

_VERBS = {
    "icmp": "reaches",
    "udp": "exchanges packets with",
    "tcp": "connects to",
    "dns": "is answered by",
    "path": "finds its way to",
    "voice": "talks with",
    "throughput": "exchanges data with",
    "tls": "agrees on TLS with",
    "http": "fetches",
    "transaction": "goes through the steps of",
    "page": "loads the page of",
}

# How a main quantity is told that is neither taken nor where one stands.
_MAIN_WORDS = {"scheduling_lag": "and wakes {} late"}

# How a quantity beyond its limit is told where its label and figure do not make words.
_WORDS = {"certificate_days": "with {} left on its certificate"}
_COUNTED = {
    "{packet}": "packets",
    "{redirect}": "redirects",
    "{answer}": "answers",
    "By": "B",
    "{hop}": "hops",
    "{path}": "ways",
    "{mos}": "of 5",
    "{R}": "R",
    "{step}": "steps",
    "{request}": "requests",
    "{error}": "errors",
    "{connection}": "connections",
    "{service}": "services",
    "{score}": "",
    "MBy/s": "MB/s",
    "{process}": "processes",
    "dB[mW]": "dBm",
}


# Many octets, in SI's multiples of 1,000 (ISO/IEC 80000-13 keeps KiB for those of 1,024).
_OCTETS = ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"))


@dataclass(frozen=True, slots=True)
class StreamReading:
    """What a sentence about a stream is made from: the window's median and the newest run."""

    vantage_point: str
    target: str
    kind: str
    state: State
    main: str
    median: float | None
    runs: int
    newest: Mapping[str, float]
    newest_reason: Reason | None
    limits: Sequence[Limit]


def figure(value: float, unit: str) -> str:
    """A value as people read it, rounded to what matters.

    >>> figure(1118.4, "ms"), figure(0.0461, "ms"), figure(0.246, "1"), figure(70.98, "d")
    ('1,118 ms', '0.046 ms', '24.6 %', '71 days')
    """
    if unit == "1":
        return f"{value * 100:.3g} %"
    if unit == "By" and abs(value) >= 1e6:
        size, name = next(one for one in _OCTETS if abs(value) >= one[0])
        return f"{value / size:,.1f} {name}"
    if unit == "d":
        return f"{value:,.0f} days" if abs(value) >= 10 else f"{value:.1f} days"
    is_count = unit == "By" or (unit.startswith("{") and unit not in ("{mos}", "{R}", "{score}"))
    unit = _COUNTED.get(unit, unit)
    if is_count and value == int(value):
        return f"{value:,.0f} {unit}"
    digits = 0 if abs(value) >= 100 else 1 if abs(value) >= 10 else 2 if abs(value) >= 1 else 3
    return f"{value:,.{digits}f} {unit}".rstrip()


def stream_sentence(reading: StreamReading) -> str:
    """One sentence, without the full stop and the "since" that the reader's clock completes."""
    who = f"{reading.vantage_point} {_VERBS.get(reading.kind, 'reads')} {reading.target}"
    if reading.state is State.SILENT:
        if not reading.runs and reading.median is None:
            return f"{reading.vantage_point} has sent no result for {reading.target}"
        return f"{reading.vantage_point} has gone silent about {reading.target}: no result"
    if reading.state is State.FINE:
        if reading.median is None:
            return f"{who}, fine"
        usual = _measured(reading.median, reading.main)
        return f"{who} {usual}, within its limits" if reading.limits else f"{who} {usual}"
    if reading.newest_reason is not None:
        why = SENTENCES[reading.newest_reason]
        return f"{reading.vantage_point} gets no good answer from {reading.target}: {why}"
    crossed = _crossed(reading)
    return f"{who} {_told(reading)}, {crossed}" if crossed else f"{who} {_told(reading)}, not yet clear"


def _told(reading: StreamReading) -> str:
    value = reading.newest.get(reading.main)
    return "without a figure" if value is None else _measured(value, reading.main)


def _measured(value: float, quantity: str) -> str:
    """A time is taken, anything else is where one stands: `in 48 ms`, `at 4.1 of 5`."""
    unit = quantity_named(quantity).unit
    usual = "in {}" if unit == "ms" else "at {}"
    return _MAIN_WORDS.get(quantity, usual).format(figure(value, unit))


def _crossed(reading: StreamReading) -> str:
    """The worst limit that the newest run crosses."""
    found = ""
    worst = Level.BETWEEN
    for limit in reading.limits:
        value = reading.newest.get(limit.quantity)
        if value is None or limit.level(value) <= worst:
            continue
        worst = limit.level(value)
        level = limit.breached if worst is Level.BREACHED else limit.degraded
        assert level is not None  # or the value could not be beyond it
        quantity = quantity_named(limit.quantity)
        side = "over" if quantity.worse == "higher" else "under"
        told = _WORDS.get(limit.quantity, quantity.label + " {}").format(figure(value, quantity.unit))
        what = "" if limit.quantity == reading.main else f"{told}, "
        found = f"{what}{side} its {worst.name.lower()} limit of {figure(level, quantity.unit)}"
    return found
