"""Where the ships of Skerry Line are: each goes to and fro on its line all day, with a rest at either end."""

import itertools
from dataclasses import dataclass
from functools import cached_property

from kuppel.core.duration import HOUR_US, MINUTE_US
from kuppel.core.position import Position, along, distance_m

# 15 knots and half an hour in harbour: what small ferries do (common practice, no source).
_SPEED_M_PER_US = 15 * 1852 / HOUR_US
_REST_US = 30 * MINUTE_US


@dataclass(frozen=True)
class Line:
    """From the roads of one harbour to those of another, over points at sea; `begins_us` after midnight UTC of 1970 a ship
    leaves the first."""

    harbours: tuple[str, str]
    points: tuple[Position, ...]
    begins_us: int

    @cached_property
    def _sail_us(self) -> float:
        """From one end to the other."""
        return sum(distance_m(one, other) for one, other in itertools.pairwise(self.points)) / _SPEED_M_PER_US

    @property
    def words(self) -> str:
        return " to ".join(self.harbours)

    def at(self, time_us: int) -> Position:
        there_us = self._sail_us + _REST_US
        since_us = (time_us - self.begins_us) % (2 * there_us)
        if since_us < there_us:
            return along(self.points, since_us / self._sail_us)
        return along(self.points[::-1], (since_us - there_us) / self._sail_us)


def _way(*points: tuple[float, float]) -> tuple[Position, ...]:
    return tuple(Position(*one) for one in points)


LINES = {
    "MV Fulmar": Line(
        ("Brannick", "Lundhavn"),
        _way((-0.9049, 60.3627), (-0.78, 60.28), (-0.26, 60.13), (0.14, 60.16), (0.2571, 60.2525)),
        0,
    ),
    "MV Guillemot": Line(("Ostrey", "Vessna"), _way((0.6067, 60.6375), (-0.04, 60.83), (-0.0717, 60.8233)), 70 * MINUTE_US),
    "MV Kittiwake": Line(
        ("Kelmouth", "Averil"), _way((-0.654, 59.8954), (-0.44, 59.87), (0.7149, 60.0506)), 140 * MINUTE_US
    ),
}
