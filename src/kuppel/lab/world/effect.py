"""Effects: what is other than usual, where, from when until when. Faults are made of them, and so is maintenance."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from kuppel.core.series import FloatArray, IntArray

EffectKind = Literal[
    "delay",  # of a link: ms more
    "load",  # of a link: utilisation more
    "loss",  # of a link: share of packets lost one by one
    "bursts",  # of a link: share of the time that it loses everything; bursts of `length_ms`
    "down",  # of a link or a host: nothing passes
    "off",  # of an application: nobody listens
    "cost",  # of a link: cost more, for routing
    "signal",  # of a link by radio: dB more
    "no_v6",  # at a host: IPv6 is dropped
    "slow_answers",  # of a router: ms more over its own replies
    "few_answers",  # of a router: share of its own replies left out
    "slow_names",  # of a resolver: ms more
    "wrong_names",  # of a resolver: the address `note` for every name of ours
    "errors",  # of an application: share of requests answered with a server error
    "queueing",  # of an application: share of requests that wait for a connection
    "slowness",  # of an application: times longer, less one
    "expiry",  # of an application: its certificate ends so many days after the effect's beginning
    "busy",  # of a vantage point's machine: ms that its clock readings come late
    "silent",  # of a vantage point: its agent does not run
]


@dataclass(frozen=True, slots=True)
class Effect:
    """`until_us` is None while nobody has ended it."""

    kind: EffectKind
    component: str
    value: float
    from_us: int
    until_us: int | None = None
    length_ms: float = 0.0
    note: str = ""

    def holds(self, time_us: int) -> bool:
        return self.from_us <= time_us and (self.until_us is None or time_us < self.until_us)


# Kinds that change which way packets go.
_OF_ROUTING = ("down", "cost")
_FOREVER_US = 2**62


class Effects:
    """All effects, found by kind and component. `version` moves whenever they change."""

    def __init__(self, effects: Iterable[Effect] = ()) -> None:
        self.version = 0
        self._own: dict[tuple[EffectKind, str], list[Effect]] = {}
        self._moments: list[int] = []
        self.put(effects)

    def put(self, effects: Iterable[Effect]) -> None:
        """Hold exactly these."""
        self._own = {}
        moments: set[int] = set()
        for one in effects:
            self._own.setdefault((one.kind, one.component), []).append(one)
            if one.kind in _OF_ROUTING:
                moments |= {one.from_us, _FOREVER_US if one.until_us is None else one.until_us}
        self._moments = sorted(moments)
        self.version += 1

    def of(self, kind: EffectKind, component: str, from_us: int, to_us: int) -> list[Effect]:
        """Those that touch [from_us, to_us]."""
        return [
            one
            for one in self._own.get((kind, component), ())
            if one.from_us <= to_us and (one.until_us is None or one.until_us > from_us)
        ]

    def value(self, kind: EffectKind, component: str, times_us: IntArray) -> FloatArray | None:
        """What all of them come to at each time; None when there is nothing at any of them."""
        if (kind, component) not in self._own or times_us.size == 0:
            return None
        found: FloatArray | None = None
        for one in self.of(kind, component, int(times_us.min()), int(times_us.max())):
            until_us = _FOREVER_US if one.until_us is None else one.until_us
            part = np.where((times_us >= one.from_us) & (times_us < until_us), one.value, 0.0)
            found = part if found is None else found + part
        return found

    def now(self, kind: EffectKind, component: str, time_us: int) -> Effect | None:
        """One that holds at a moment."""
        return next((one for one in self._own.get((kind, component), ()) if one.holds(time_us)), None)

    def epochs(self, times_us: IntArray) -> IntArray:
        """A number for each time; where it is the same, packets go the same ways."""
        return np.searchsorted(np.array(self._moments, dtype=np.int64), times_us, side="right").astype(np.int64)

    def epoch_start(self, epoch: int) -> int:
        """A moment within an epoch."""
        return self._moments[epoch - 1] if epoch else (self._moments[0] - 1 if self._moments else 0)
