"""Where things are on the made-up archipelago: degrees east and north. `coast.geojson` (RFC 7946) draws it."""

from dataclasses import dataclass
from pathlib import Path

COAST = Path(__file__).with_name("coast.geojson")


@dataclass(frozen=True, slots=True)
class Place:
    """A point on the map."""

    longitude: float
    latitude: float


PLACES = {
    "Lundhavn": Place(0.2068, 60.3209),
    "Brannick": Place(-0.9409, 60.4632),
    "Ostrey": Place(0.7553, 60.5762),
    "Vessna": Place(-0.0717, 60.7100),
    "Kelmouth": Place(-0.6540, 60.0155),
    "Averil": Place(0.8903, 60.0824),
    "Havn": Place(0.9494, 59.7874),
    "the mainland road": Place(-0.2152, 59.7435),
    "North": Place(2.1, 62.9),
    "West": Place(-8.4, 58.6),
    "South": Place(4.6, 55.1),
    "Fjord city": Place(5.3, 60.4),
}
