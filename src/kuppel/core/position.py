"""Where something is (WGS 84), how far apart two places are, and the course of what moves."""

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

# The mean radius of the earth, m (IUGG: (2a + b) / 3 of WGS 84's axes).
EARTH_RADIUS_M = 6_371_008.8
# Nearer than this is the same place: what satellites say of one that stands still wanders by some metres.
SAME_PLACE_M = 100.0


@dataclass(frozen=True, slots=True)
class Position:
    """Degrees east and north."""

    longitude: float
    latitude: float


def distance_m(one: Position, other: Position) -> float:
    """The great-circle distance on a sphere, in m, by the haversine formula (Sinnott, "Virtues of the haversine", 1984).

    >>> round(distance_m(Position(0, 0), Position(0, 1)))
    111195
    """
    south, north = math.radians(one.latitude), math.radians(other.latitude)
    half_up = math.sin((north - south) / 2) ** 2
    half_across = math.sin(math.radians(other.longitude - one.longitude) / 2) ** 2
    return 2 * EARTH_RADIUS_M * math.asin(min(1.0, math.sqrt(half_up + math.cos(south) * math.cos(north) * half_across)))


def is_elsewhere(one: Position, other: Position) -> bool:
    """Whether a place is another one than before."""
    return distance_m(one, other) >= SAME_PLACE_M


def along(points: Sequence[Position], share: float) -> Position:
    """The place after a share of a way over some points, straight from each to the next, over at most some hundred km.

    >>> along([Position(0.0, 60.0), Position(1.0, 60.0), Position(1.0, 61.0)], 0.0)
    Position(longitude=0.0, latitude=60.0)
    """
    lengths = [distance_m(one, other) for one, other in itertools.pairwise(points)]
    left = min(1.0, max(0.0, share)) * sum(lengths)
    for number, length in enumerate(lengths):
        if left <= length and length > 0:
            part, one, other = left / length, points[number], points[number + 1]
            return Position(
                one.longitude + part * (other.longitude - one.longitude),
                one.latitude + part * (other.latitude - one.latitude),
            )
        left -= length
    return points[-1]
