"""Limits: the levels of a quantity beyond which a run counts as degraded or breached, and where it clears."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from kuppel.core.error import SettingsError
from kuppel.core.quantity import quantity_named
from kuppel.core.series import FloatArray


class Level(IntEnum):
    """Where one run lies against its limits. INSIDE is on the good side of the clearing limit."""

    INSIDE = 0
    BETWEEN = 1
    DEGRADED = 2
    BREACHED = 3


@dataclass(frozen=True, slots=True)
class Limit:
    """A quantity's limits, in its unit. Any of degraded and breached may be absent; clear defaults to the milder one."""

    quantity: str
    degraded: float | None = None
    breached: float | None = None
    clear: float | None = None

    def __post_init__(self) -> None:
        sign = self._sign()
        mildest = self.degraded if self.degraded is not None else self.breached
        if mildest is None:
            raise SettingsError(f"limits.{self.quantity}", "no level", "name a degraded or a breached level, or both")
        if self.degraded is not None and self.breached is not None and sign * (self.breached - self.degraded) < 0:
            side = "at least" if sign > 0 else "at most"
            raise SettingsError(
                f"limits.{self.quantity}.breached", self.breached, f"be {side} the degraded level, {self.degraded:g}"
            )
        if self.clear is not None and sign * (mildest - self.clear) < 0:
            side = "at most" if sign > 0 else "at least"
            raise SettingsError(f"limits.{self.quantity}.clear", self.clear, f"be {side} {mildest:g}, where it begins")

    def _sign(self) -> int:
        return 1 if quantity_named(self.quantity, "limits").worse == "higher" else -1

    def level(self, value: float) -> Level:
        """The level of one value: beyond a limit is strictly past it, inside is at the clearing limit or better."""
        sign = self._sign()
        if self.breached is not None and sign * (value - self.breached) > 0:
            return Level.BREACHED
        if self.degraded is not None and sign * (value - self.degraded) > 0:
            return Level.DEGRADED
        return Level.INSIDE if sign * (value - self._clearing()) <= 0 else Level.BETWEEN

    def levels(self, values: FloatArray) -> NDArray[np.int8]:
        """`level` of many values at once; NaN, which is no value, is inside."""
        sign = self._sign()
        found = np.zeros(values.size, dtype=np.int8)
        with np.errstate(invalid="ignore"):
            found[sign * (values - self._clearing()) > 0] = Level.BETWEEN
            for edge, level in ((self.degraded, Level.DEGRADED), (self.breached, Level.BREACHED)):
                if edge is not None:
                    found[sign * (values - edge) > 0] = level
        return found

    def _clearing(self) -> float:
        mildest = self.degraded if self.degraded is not None else self.breached
        clear = self.clear if self.clear is not None else mildest
        assert clear is not None  # __post_init__ saw to it
        return clear


def run_levels(is_ok: NDArray[np.bool_], quantities: Mapping[str, FloatArray], limits: Sequence[Limit]) -> NDArray[np.int8]:
    """`run_level` of many runs at once, shape (n,); NaN where a run has no such quantity."""
    found = np.zeros(is_ok.size, dtype=np.int8)
    for limit in limits:
        if limit.quantity in quantities:
            found = np.maximum(found, limit.levels(quantities[limit.quantity]))
    return np.where(is_ok, found, np.int8(Level.BREACHED))


def run_level(is_ok: bool, quantities: Mapping[str, float], limits: Sequence[Limit]) -> Level:
    """The level of a run: the worst over its limits. A failed run is beyond every limit (design: for availability)."""
    if not is_ok:
        return Level.BREACHED
    levels = [limit.level(quantities[limit.quantity]) for limit in limits if limit.quantity in quantities]
    return max(levels, default=Level.INSIDE)
