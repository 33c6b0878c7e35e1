"""What is wrong is told as RFC 9457 has it, by every route that reads, and only as its description says."""

import re
import unittest
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

from tests.hub.running import HubInside

# What no parameter of that type can be (JSON Schema 2020-12, as OpenAPI 3.1 has it).
NONSENSE = {"integer": "many", "number": "wide", "boolean": "perhaps", "array": "none,of,these"}
DATE_TIMES = ("yesterday", "2026-02-30T00:00:00Z", "2026-01-01", "2026-01-01T00:00:00")


def kinds(schema: dict[str, Any]) -> set[str]:
    """Types and formats that a parameter may have."""
    found = {schema.get("format") or schema.get("type", "")}
    for one in (*schema.get("anyOf", ()), *([schema["items"]] if "items" in schema else [])):
        found |= kinds(one)
    return found - {"", "null"}


class Problems(unittest.TestCase):
    hub: HubInside
    description: dict[str, Any]

    @classmethod
    def setUpClass(cls) -> None:
        cls.hub = HubInside()
        cls.hub.__enter__()
        cls.addClassCleanup(cls.hub.__exit__)
        point, _ = cls.hub.enrol()
        cls.hub.add_probe([point])
        cls.stream = cls.hub.streams()[0]["stream"]
        cls.description = cls.hub.client.get("/api/openapi.json").json()

    def reading(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """Every address that is read, with its description; a live stream has no end to wait for."""
        for path, acts in self.description["paths"].items():
            if "get" in acts and path not in ("/api/live", "/api/agents/self/trials"):
                yield path, acts["get"]

    def told(self, path: str, act: dict[str, Any], query: dict[str, str]) -> tuple[int, dict[str, Any]]:
        """The status and the problem of an answer; both as the standard and the description have them."""
        answer = self.hub.client.get(path, params=query)
        self.assertLess(answer.status_code, 500, f"{path} {query}: {answer.text}")
        if answer.is_success:
            return answer.status_code, {}
        self.assertEqual(answer.headers["Content-Type"], "application/problem+json", path)
        problem: dict[str, Any] = answer.json()
        # RFC 9457 §3.1: the members, of these types; the status is the answer's own.
        self.assertEqual(problem["status"], answer.status_code)
        self.assertIsInstance(problem["title"], str)
        self.assertRegex(problem["title"], r"^\S.*[.:]$|^\S.*\.$", path)
        self.assertEqual(urlsplit(problem["type"]).scheme or "about", "about", path)
        for name in ("field", "value", "remedy"):
            self.assertIsInstance(problem.get(name, ""), str, path)
        self.assertIn(str(answer.status_code), act["responses"], f"{path} {query} is not described")
        return answer.status_code, problem

    def test_a_parameter_of_another_type_is_named_with_its_value(self) -> None:
        asked = 0
        for path, act in self.reading():
            here = re.sub(r"\{[^}]+\}", str(self.stream), path)
            for one in act.get("parameters", []):
                if one["in"] != "query":
                    continue
                found = kinds(one["schema"])
                for kind in found & NONSENSE.keys() if "string" not in found else ():
                    needed = {
                        each["name"]: "1" for each in act["parameters"] if each.get("required") and each["in"] == "query"
                    }
                    status, problem = self.told(here, act, needed | {one["name"]: NONSENSE[kind]})
                    self.assertEqual(status, 422, f"{path} {one['name']}")
                    asked += 1
                    if len(needed) <= 1:
                        self.assertEqual(problem["field"].split(".")[0], one["name"], path)
                        self.assertEqual(problem["value"], NONSENSE[kind])
                        self.assertIn(one["name"], problem["remedy"])
        self.assertGreater(asked, 30)

    def test_a_time_that_is_none_is_named_with_its_value(self) -> None:
        """RFC 3339: a date alone, a time without its zone, and a day that no calendar has are no date-times."""
        asked = 0
        for path, act in self.reading():
            here = re.sub(r"\{[^}]+\}", str(self.stream), path)
            for one in act.get("parameters", []):
                if one["in"] != "query" or "date-time" not in kinds(one["schema"]):
                    continue
                for value in DATE_TIMES:
                    needed = {
                        each["name"]: "1" for each in act["parameters"] if each.get("required") and each["in"] == "query"
                    }
                    status, problem = self.told(here, act, needed | {one["name"]: value})
                    self.assertEqual(status, 422, f"{path} {one['name']}={value}")
                    if not needed:
                        self.assertEqual((problem["field"], problem["value"]), (one["name"], value), path)
                    asked += 1
        self.assertGreater(asked, 100)

    def test_a_window_from_end_to_start_is_refused_wherever_there_is_one(self) -> None:
        asked = 0
        for path, act in self.reading():
            names = {one["name"] for one in act.get("parameters", []) if one["in"] == "query"}
            required = {one["name"] for one in act.get("parameters", []) if one["in"] == "query" and one.get("required")}
            if not {"from", "to"} <= names or required - {"from", "to"}:
                continue
            here = re.sub(r"\{[^}]+\}", str(self.stream), path)
            query = {"from": "2026-01-02T00:00:00Z", "to": "2026-01-01T00:00:00Z"}
            status, problem = self.told(here, act, query)
            self.assertEqual((status, problem.get("field")), (422, "from"), path)
            asked += 1
        self.assertGreater(asked, 8)

    def test_what_is_not_there_is_not_found_and_says_what_to_do(self) -> None:
        asked = 0
        for path, act in self.reading():
            if "{" not in path:
                continue
            required = {one["name"] for one in act.get("parameters", []) if one["in"] == "query" and one.get("required")}
            if required:
                continue
            here = re.sub(r"\{[^}]+\}", "999999", path)
            status, problem = self.told(here, act, {})
            self.assertEqual(status, 404, path)
            self.assertTrue(problem.get("remedy"), path)
            asked += 1
        self.assertGreater(asked, 5)

    def test_a_number_of_a_path_that_is_none_is_named(self) -> None:
        for path, act in self.reading():
            for one in act.get("parameters", []):
                if one["in"] == "path" and kinds(one["schema"]) == {"integer"}:
                    here = re.sub(r"\{[^}]+\}", "first", path)
                    status, problem = self.told(here, act, {})
                    self.assertEqual((status, problem["value"]), (422, "first"), path)

    def test_bodies_of_another_shape_are_refused_and_change_nothing(self) -> None:
        """Every address that takes JSON: a list, a text, a number and an object of something else."""
        before = self.everything()
        asked = 0
        for path, acts in self.description["paths"].items():
            for method, act in acts.items():
                if "application/json" not in act.get("requestBody", {}).get("content", {}):
                    continue
                here = re.sub(r"\{[^}]+\}", str(self.stream), path)
                for body in ([], "words", 7, {"no such field": 1}):
                    answer = self.hub.client.request(method, here, json=body)
                    self.assertIn(answer.status_code, (401, 403, 404, 409, 422), f"{method} {path} {body}: {answer.text}")
                    self.assertEqual(answer.headers["Content-Type"], "application/problem+json", path)
                    self.assertEqual(answer.json()["status"], answer.status_code)
                    self.assertIn(str(answer.status_code), act["responses"], f"{method} {path} is not described")
                    asked += 1
        self.assertGreater(asked, 80)
        self.assertEqual(self.everything(), before)

    def everything(self) -> list[Any]:
        """All that is arranged."""
        names = (
            "targets",
            "probes",
            "groups",
            "vantage-points",
            "people",
            "tokens",
            "enrolment-tokens",
            "saved",
            "changes",
        )
        return [self.hub.client.get(f"/api/{name}").json() for name in names]

    def test_a_body_that_is_no_json_says_where(self) -> None:
        """RFC 8259: the character at which it stops being JSON."""
        answer = self.hub.client.post(
            "/api/targets", content=b'{"name": "booking site",}', headers={"Content-Type": "application/json"}
        )
        problem = answer.json()
        self.assertEqual((answer.status_code, problem["field"]), (422, "body"))
        self.assertRegex(problem["title"], r"at character \d+")

    def test_a_word_that_is_not_expected_is_named(self) -> None:
        """A misspelt field would otherwise be left out without a word."""
        answer = self.hub.client.post("/api/targets", json={"name": "booking site", "descripton": "front page"})
        self.assertEqual((answer.status_code, answer.json()["field"]), (422, "descripton"))


if __name__ == "__main__":
    unittest.main()
