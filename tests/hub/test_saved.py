"""What people keep under a name, each for themselves; and the map's own layer."""

import json
import unittest
from typing import Any

from tests.hub.running import HubInside

SQUARE = [[[0.0, 60.0], [1.0, 60.0], [1.0, 61.0], [0.0, 60.0]]]


def layer(kind: str = "Polygon", coordinates: Any = SQUARE) -> dict[str, Any]:
    return {
        "type": "FeatureCollection",
        "features": [{"type": "Feature", "properties": {}, "geometry": {"type": kind, "coordinates": coordinates}}],
    }


class SavedCase(unittest.TestCase):
    def setUp(self) -> None:
        self.hub = self.enterContext(HubInside())


class Saved(SavedCase):
    def setUp(self) -> None:
        super().setUp()
        self.client = self.hub.signed_in("reader")
        point, _ = self.hub.enrol()
        self.hub.add_probe([point])
        self.stream = self.hub.streams()[0]["stream"]

    def keep(self, name: str, status: int = 201, **body: Any) -> dict[str, Any]:
        answer = self.client.post("/api/saved", json={"name": name, "body": body})
        self.assertEqual(answer.status_code, status, answer.text)
        found: dict[str, Any] = answer.json()
        return found

    def test_each_keeps_their_own(self) -> None:
        made = self.keep("ships", kind="view", address="/matrix?find=ship")
        self.assertEqual([one["name"] for one in self.client.get("/api/saved").json()], ["ships"])
        other = self.hub.signed_in("engineer")
        self.assertEqual(other.get("/api/saved").json(), [])
        self.assertEqual(other.delete(f"/api/saved/{made['id']}").status_code, 404)
        self.assertEqual(self.client.delete(f"/api/saved/{made['id']}").status_code, 204)
        self.assertEqual(self.client.get("/api/saved").json(), [])

    def test_the_same_name_is_replaced_and_kinds_do_not_mix(self) -> None:
        first = self.keep("calls", kind="view", address="/matrix?measure=loss")
        again = self.keep("calls", kind="view", address="/map")
        self.assertEqual((again["id"], again["body"]["address"]), (first["id"], "/map"))
        chart = self.keep("calls", kind="chart", streams=[self.stream], window_s=3600)
        self.assertNotEqual(chart["id"], first["id"])

    def test_a_held_window_comes_back_as_it_was(self) -> None:
        made = self.keep(
            "that night", kind="chart", streams=[self.stream], **{"from": "2026-09-16T22:00:00Z"}, to="2026-09-17T04:00:00Z"
        )
        (kept,) = self.client.get("/api/saved").json()
        self.assertEqual(kept, made)
        self.assertEqual((kept["body"]["from"], kept["body"]["window_s"]), ("2026-09-16T22:00:00Z", None))

    def test_many_together_are_kept_by_what_they_share(self) -> None:
        together = {"of": "target", "id": 1, "probes": "http"}
        made = self.keep("the site", kind="chart", together=together, window_s=86_400)
        self.assertEqual((made["body"]["together"], made["body"]["streams"]), (together, []))
        self.keep("x", 422, kind="chart", together=together, streams=[self.stream], window_s=600)
        self.keep("x", 404, kind="chart", together=together | {"id": 99}, window_s=600)
        self.keep("x", 422, kind="chart", together=together | {"probes": "smoke"}, window_s=600)

    def test_what_cannot_be_kept_is_named(self) -> None:
        for body in (
            {"kind": "view", "address": "https://elsewhere.example/"},
            {"kind": "view", "address": "//elsewhere.example/"},
            {"kind": "chart", "streams": [self.stream]},
            {"kind": "chart", "streams": [self.stream], "window_s": 600, "from": "2026-09-16T22:00:00Z",
             "to": "2026-09-17T22:00:00Z"},
            {"kind": "chart", "streams": [], "window_s": 600},
        ):  # fmt: skip
            self.keep("x", 422, **body)
        problem = self.keep("x", 422, kind="chart", streams=[99], window_s=600)
        self.assertEqual(problem["field"], "streams")

    def test_a_token_is_nobody(self) -> None:
        self.assertEqual(self.hub.client.get("/api/saved").status_code, 403)


class Layers(SavedCase):
    def put(self, told: object, status: int = 204) -> Any:
        body = told if isinstance(told, bytes) else json.dumps(told).encode()
        answer = self.hub.client.put("/api/map-layer", content=body, headers={"Content-Type": "application/geo+json"})
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json() if answer.content else None

    def test_it_is_kept_told_and_taken_away(self) -> None:
        self.assertIsNone(self.hub.client.get("/api/map-layer").json())
        self.put(layer())
        answer = self.hub.client.get("/api/map-layer")
        self.assertEqual((answer.json(), answer.headers["Content-Type"]), (layer(), "application/geo+json"))
        self.assertEqual(self.hub.client.delete("/api/map-layer").status_code, 204)
        self.assertIsNone(self.hub.client.get("/api/map-layer").json())

    def test_what_is_no_layer_is_refused_and_the_old_one_stays(self) -> None:
        """RFC 7946 §3.1 has the shapes, §4 the coordinates."""
        self.put(layer())
        self.assertIn("JSON", self.put(b"{", 422)["title"])
        for told, field in (
            ([], "layer"),
            ({"type": "FeatureCollection", "features": []}, "layer"),
            (layer("Point", [0, 0]), "features.1.geometry"),
            (layer("Polygon", [[[0, 95], [1, 1]]]), "features.1.coordinates"),
            (layer("LineString", [[0, "x"]]), "features.1.coordinates"),
            (layer("Polygon", 7), "features.1.coordinates"),
        ):
            self.assertEqual(self.put(told, 422)["field"], field, told)
        self.assertEqual(self.hub.client.get("/api/map-layer").json(), layer())

    def test_only_an_admin_may_change_it(self) -> None:
        engineer = self.hub.signed_in("engineer")
        answer = engineer.put("/api/map-layer", content=b"{}", headers={"Sec-Fetch-Site": "same-origin"})
        self.assertEqual(answer.status_code, 403)


if __name__ == "__main__":
    unittest.main()
