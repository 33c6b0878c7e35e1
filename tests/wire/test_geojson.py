"""GeoJSON as RFC 7946 has it: what its own examples are, and whatever else a layer may and may not hold."""

import copy
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.error import SettingsError
from kuppel.lab.skerry.archipelago import COAST
from kuppel.wire.geojson import checked_layer

# RFC 7946 §A.3 (without and with a hole), §A.2, §A.6 and §A.5, from memory; each is a geometry.
EXAMPLES: list[dict[str, Any]] = [
    {"type": "Polygon", "coordinates": [[[100.0, 0.0], [101.0, 0.0], [101.0, 1.0], [100.0, 1.0], [100.0, 0.0]]]},
    {
        "type": "Polygon",
        "coordinates": [
            [[100.0, 0.0], [101.0, 0.0], [101.0, 1.0], [100.0, 1.0], [100.0, 0.0]],
            [[100.8, 0.8], [100.8, 0.2], [100.2, 0.2], [100.2, 0.8], [100.8, 0.8]],
        ],
    },
    {"type": "LineString", "coordinates": [[100.0, 0.0], [101.0, 1.0]]},
    {
        "type": "MultiPolygon",
        "coordinates": [
            [[[102.0, 2.0], [103.0, 2.0], [103.0, 3.0], [102.0, 3.0], [102.0, 2.0]]],
            [[[100.0, 0.0], [101.0, 0.0], [101.0, 1.0], [100.0, 1.0], [100.0, 0.0]]],
        ],
    },
    {"type": "MultiLineString", "coordinates": [[[100.0, 0.0], [101.0, 1.0]], [[102.0, 2.0], [103.0, 3.0]]]},
]
PLACES = st.tuples(st.floats(-180, 180), st.floats(-90, 90)).map(list)


def collection(*geometries: Any) -> dict[str, Any]:
    features = [{"type": "Feature", "properties": {}, "geometry": one} for one in geometries]
    return {"type": "FeatureCollection", "features": features}


class Layers(unittest.TestCase):
    def refused(self, told: object) -> str:
        with self.assertRaises(SettingsError) as caught:
            checked_layer(told)
        return str(caught.exception)

    def test_the_standards_examples_are_layers(self) -> None:
        told = collection(*EXAMPLES)
        self.assertEqual(checked_layer(copy.deepcopy(told)), told)

    def test_the_demos_coast_is_one(self) -> None:
        import json

        found = checked_layer(json.loads(COAST.read_text()))
        self.assertGreater(len(found["features"]), 5)

    @given(st.lists(st.lists(PLACES, min_size=2, max_size=8), min_size=1, max_size=5))
    def test_any_lines_on_earth_are(self, lines: list[list[list[float]]]) -> None:
        told = collection(*({"type": "LineString", "coordinates": one} for one in lines))
        self.assertIs(checked_layer(told), told)

    def test_a_third_number_is_a_height(self) -> None:
        """§3.1.1: a position may have an altitude."""
        checked_layer(collection({"type": "LineString", "coordinates": [[1.0, 2.0, 30.0], [2.0, 3.0, 31.0]]}))

    @given(st.floats(allow_nan=True, allow_infinity=True), st.floats(allow_nan=True, allow_infinity=True))
    def test_what_is_not_on_earth_is_named(self, longitude: float, latitude: float) -> None:
        told = collection({"type": "LineString", "coordinates": [[longitude, latitude]]})
        if abs(longitude) <= 180 and abs(latitude) <= 90:
            checked_layer(told)
        else:
            self.assertIn("features.1.coordinates", self.refused(told))

    def test_other_shapes_and_other_things_are_named(self) -> None:
        for told, words in (
            (None, "FeatureCollection"),
            ({"type": "Topology"}, "FeatureCollection"),
            ({"type": "FeatureCollection"}, "FeatureCollection"),
            (collection(), "0 points"),
            (collection(EXAMPLES[0], {"type": "Point", "coordinates": [1, 2]}), "features.2.geometry"),
            (collection(None), "features.1.geometry"),
            ({"type": "FeatureCollection", "features": [7]}, "features.1.geometry"),
            (collection({"type": "Polygon", "coordinates": [[1, 2]]}), "features.1.coordinates"),
            (collection({"type": "Polygon"}), "features.1.coordinates"),
            (collection({"type": "LineString", "coordinates": [["1", "2"]]}), "features.1.coordinates"),
            (collection({"type": "LineString", "coordinates": [[1]]}), "features.1.coordinates"),
        ):
            with self.subTest(str(told)[:60]):
                self.assertIn(words, self.refused(told))

    def test_too_many_points_are_refused_before_a_browser_has_to_draw_them(self) -> None:
        line = {"type": "LineString", "coordinates": [[0.0, 0.0]] * 400_001}
        self.assertIn("simplify", self.refused(collection(line)))


if __name__ == "__main__":
    unittest.main()
