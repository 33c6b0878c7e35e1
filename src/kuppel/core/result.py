"""What a run yields: its attempts, quantities, facts and detail."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from kuppel.core.reason import Reason


@dataclass(frozen=True, slots=True)
class Attempt:
    """One try of a run. `reason` is None when it succeeded; `note` says in words what was seen."""

    started_us: int
    duration_us: int
    reason: Reason | None = None
    note: str = ""


@dataclass(frozen=True, slots=True)
class Observation:
    """What one attempt of a probe kind saw, before it is timed and repeated.

    `quantities` are in the units of `core.quantity`; `facts` are values that are not numbers (address, certificate,
    version); `detail` is whatever explains this one run (single round trips, headers) and goes first when space is short.
    """

    reason: Reason | None = None
    note: str = ""
    quantities: Mapping[str, float] = field(default_factory=dict)
    facts: Mapping[str, str] = field(default_factory=dict)
    detail: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Result:
    """One execution of a probe. `started_us` is UTC in microseconds; `reason` is None when the run is ok."""

    started_us: int
    reason: Reason | None
    quantities: Mapping[str, float]
    facts: Mapping[str, str]
    attempts: tuple[Attempt, ...]
    detail: Mapping[str, Any] = field(default_factory=dict)

    @property
    def is_ok(self) -> bool:
        return self.reason is None
