"""JSONPath as steps use it, against the compliance test suite of RFC 9535 (npm package jsonpath-rfc9535, 687 cases)."""

import json
import unittest
from pathlib import Path
from typing import Any

import jsonpath_rfc9535

from kuppel.core.error import SettingsError
from kuppel.probes.registry import KINDS

SUITE = Path(__file__).parents[2] / (
    "web/node_modules/jsonpath-rfc9535/src/__tests__/jsonpath-compliance-test-suite/cts.json"
)


class Compliance(unittest.TestCase):
    def test_every_case_of_the_suite(self) -> None:
        cases: list[dict[str, Any]] = json.loads(SUITE.read_text())["tests"]
        self.assertGreater(len(cases), 600)
        for case in cases:
            with self.subTest(case["name"]):
                selector = case["selector"]
                expect = [{"from": "jsonpath", "expression": selector or " "}]
                settings = {"steps": [{"name": "s", "url": "http://a.example/", "expect": expect}]}
                if case.get("invalid_selector"):
                    with self.assertRaises(SettingsError):
                        KINDS["transaction"].parse(settings)
                    continue
                if len(selector) <= 300:
                    KINDS["transaction"].parse(settings)
                found = [node.value for node in jsonpath_rfc9535.find(selector, case["document"])]
                self.assertIn(found, case["results"] if "results" in case else [case["result"]])
