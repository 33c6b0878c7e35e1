"""GeoJSON (RFC 7946) as far as a map can draw it: collections of polygons and lines."""

import math
from typing import Any

from kuppel.core.error import SettingsError

_SHAPES = {"Polygon": 3, "MultiPolygon": 4, "LineString": 2, "MultiLineString": 3}
_MOST_POINTS = 400_000


def checked_layer(found: object) -> dict[str, Any]:
    """What was read from JSON, if it is a layer that can be drawn.

    Raises
    ------
    SettingsError
    """
    if (
        not isinstance(found, dict)
        or found.get("type") != "FeatureCollection"
        or not isinstance(found.get("features"), list)
    ):
        raise SettingsError("layer", "the file", "be a GeoJSON FeatureCollection (RFC 7946)")
    points = 0
    for number, feature in enumerate(found["features"], 1):
        shape = feature.get("geometry") if isinstance(feature, dict) else None
        kind = shape.get("type") if isinstance(shape, dict) else None
        if not isinstance(shape, dict) or kind not in _SHAPES:
            raise SettingsError(f"features.{number}.geometry", str(kind), f"be one of {', '.join(_SHAPES)}")
        points += _count(shape.get("coordinates"), _SHAPES[kind], number)
    if not 0 < points <= _MOST_POINTS:
        raise SettingsError("layer", f"{points} points", f"hold between 1 and {_MOST_POINTS} points; simplify its lines")
    return found


def _count(coordinates: Any, depth: int, number: int) -> int:
    """How many points there are; each must be a place on earth."""
    if not isinstance(coordinates, list):
        raise SettingsError(f"features.{number}.coordinates", str(coordinates)[:40], "be nested lists of positions")
    if depth > 1:
        return sum(_count(one, depth - 1, number) for one in coordinates)
    is_place = (
        len(coordinates) >= 2
        and all(isinstance(one, int | float) and math.isfinite(one) for one in coordinates[:2])
        and abs(coordinates[0]) <= 180
        and abs(coordinates[1]) <= 90
    )
    if not is_place:
        raise SettingsError(
            f"features.{number}.coordinates", str(coordinates)[:40], "be longitude and latitude in degrees (WGS 84)"
        )
    return 1
