"""A real page in a real browser: what is measured of it, and how a load that fails ends."""

import json
import shutil
import time
import unittest
from pathlib import Path
from typing import Any

from jsonschema import Draft6Validator
from referencing import Registry, Resource

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.core.vitals import Shift, Stretch
from kuppel.lab.services import Treatment, WebService
from kuppel.probes.kernel import KernelNet
from kuppel.probes.net import Binding, NetError, PageLoaded
from kuppel.probes.page import figures
from kuppel.probes.registry import KINDS
from tests.probes.simulated import SimulatedNet

KIND = KINDS["page"]
SCHEMAS = Path(__file__).parents[2] / "web/node_modules/har-schema/lib"
PAGE = b"""<!doctype html><html><head><title>Sailings</title></head><body style="margin:0">
<h1 style="font-size:60px">Next sailing 09:40</h1>
<img src="/boat.svg" width="600" height="300" alt="a boat">
<script>
  console.error('the timetable is old');
  fetch('/nowhere');
  setTimeout(() => { const end = performance.now() + 220; while (performance.now() < end); }, 300);
  const late = '<p style="height:200px;margin:0">Delayed</p>';
  setTimeout(() => { document.body.insertAdjacentHTML('afterbegin', late); }, 700);
</script></body></html>"""
BOAT = (
    b'<svg xmlns="http://www.w3.org/2000/svg" width="600" height="300"><rect width="600" height="300" fill="teal"/></svg>'
)


def treat(_client: str, path: str) -> Treatment:
    if path == "/boat.svg":
        return Treatment(0.1, 200, BOAT, (("Content-Type", "image/svg+xml"),))
    if path == "/":
        return Treatment(0.15, 200, PAGE, (("Content-Type", "text/html"), ("Set-Cookie", "who=me")))
    if path == "/busy":
        return Treatment(0, 200, b"<h1>busy</h1><script>for (;;);</script>", (("Content-Type", "text/html"),))
    if path == "/late":
        return Treatment(is_lost=True)
    return Treatment(0, 404, b"nothing here")


async def measured(net: Any, **settings: Any) -> Observation:
    return await KIND.attempt(KIND.parse({"quiet_ms": 1000} | settings), net, Binding())


@unittest.skipUnless(shutil.which("chromium"), "no Chromium on this machine: apt-get install chromium")
class Browser(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    async def test_a_load_is_measured_whole(self) -> None:
        async with WebService(treat=treat) as service:
            found = await measured(self.net, url=f"{service.url}/", expect_text="Next sailing")
        self.assertIsNone(found.reason, found.note)
        measured_ms = found.quantities
        phases = [measured_ms[name] for name in KIND.phases]
        self.assertAlmostEqual(sum(phases), measured_ms["load"], 3)
        # The server waits 150 ms for the page, and 100 ms more for its image.
        self.assertGreater(measured_ms["first_byte"], 149)
        self.assertGreater(measured_ms["load"], 250)
        self.assertGreaterEqual(measured_ms["lcp"], measured_ms["fcp"])
        # One long task of 220 ms after the paint: about 170 ms beyond the 50.
        self.assertAlmostEqual(measured_ms["blocking_time"], 170, delta=60)
        self.assertGreater(measured_ms["interactive"], 500)
        # What was inserted pushes everything down.
        self.assertGreater(measured_ms["cls"], 0.01)
        self.assertEqual((measured_ms["requests"], measured_ms["failed_requests"]), (3, 1))
        self.assertGreaterEqual(measured_ms["console_errors"], 1)
        self.assertGreater(measured_ms["page_size"], len(PAGE) + len(BOAT))
        self.assertGreater(measured_ms["visually_complete"], 0)
        self.assertIn("the timetable is old", found.detail["console"])
        self.assertNotIn("screenshot", found.detail)

    async def test_the_archive_is_har_1_2_and_tells_nobodys_cookies(self) -> None:
        """Against the JSON Schema of HAR 1.2 (npm package har-schema)."""
        async with WebService(treat=treat) as service:
            found = await measured(self.net, url=f"{service.url}/", quiet_ms=300)
        archive = found.detail["archive"]
        schemas = {path.name: json.loads(path.read_text()) for path in SCHEMAS.glob("*.json")}
        registry: Registry[Any] = Registry().with_resources(
            [(one["$id"], Resource.from_contents(one)) for one in schemas.values()]
        )
        errors = list(
            Draft6Validator(
                schemas["har.json"], registry=registry, format_checker=Draft6Validator.FORMAT_CHECKER
            ).iter_errors(archive)
        )
        self.assertEqual([error.message for error in errors], [])
        self.assertEqual(archive["log"]["version"], "1.2")
        self.assertNotIn("who=me", json.dumps(archive))

    async def test_failures_end_in_time_with_their_reason_and_a_picture(self) -> None:
        async with WebService(treat=treat) as service:
            missing = await measured(self.net, url=f"{service.url}/", quiet_ms=200, expect_text="No such words")
            refused = await measured(self.net, url=f"{service.url}/x", quiet_ms=200)
            late = await measured(self.net, url=f"{service.url}/late", timeout_ms=700)
            url = service.url
        gone = await measured(self.net, url=url, timeout_ms=5000)
        self.assertEqual(missing.reason, Reason.UNEXPECTED_TEXT)
        self.assertGreater(len(missing.detail["screenshot"]), 1000)
        self.assertEqual((refused.reason, refused.note), (Reason.UNEXPECTED_STATUS, "status 404, expected 200-399"))
        self.assertEqual(late.reason, Reason.TIMEOUT)
        self.assertEqual(gone.reason, Reason.CONNECTION_REFUSED)
        for one in (missing, refused, late, gone):
            self.assertEqual(dict(one.quantities), {})

    async def test_a_page_that_is_busy_for_ever_ends_all_the_same(self) -> None:
        begun = time.monotonic()
        async with WebService(treat=treat) as service:
            try:
                found = await measured(self.net, url=f"{service.url}/busy", timeout_ms=1000)
                self.assertEqual(found.reason, Reason.TIMEOUT)
            except NetError as error:
                self.assertEqual(error.reason, Reason.AGENT_ERROR)
        self.assertLess(time.monotonic() - begun, 25)

    async def test_a_browser_cannot_be_bound(self) -> None:
        with self.assertRaises(NetError) as raised:
            await KIND.attempt(KIND.parse({"url": "http://127.0.0.1/"}), self.net, Binding(source="127.0.0.1"))
        self.assertEqual(raised.exception.reason, Reason.BINDING_UNUSABLE)


class Figures(unittest.TestCase):
    def test_phases_are_cut_where_navigation_timing_marks(self) -> None:
        """W3C Navigation Timing: lookups, connecting with TLS inside, request, answer, and what the page does then."""
        marks = {
            "domainLookupEnd": 30.0, "connectStart": 30.0, "secureConnectionStart": 70.0, "connectEnd": 120.0,
            "responseStart": 300.0, "responseEnd": 340.0, "domContentLoadedEventEnd": 500.0, "loadEventEnd": 900.0,
        }  # fmt: skip
        loaded = PageLoaded(
            None, "", 200, "", marks, 350.0, 360.0, 800.0, (Shift(400, 0.2),), (Stretch(600, 700),), (), (), (), {}
        )
        found = figures(loaded, 5000)
        self.assertEqual([found[name] for name in KIND.phases], [30, 40, 50, 180, 40, 560])
        self.assertEqual((found["load"], found["ttfb"], found["interactive"], found["blocking_time"]), (900, 300, 700, 50))

    def test_without_tls_the_connection_ends_the_phase(self) -> None:
        marks = {
            "domainLookupEnd": 5.0, "secureConnectionStart": 0.0, "connectEnd": 25.0, "responseStart": 60.0,
            "responseEnd": 61.0, "domContentLoadedEventEnd": 70.0, "loadEventEnd": 80.0,
        }  # fmt: skip
        found = figures(PageLoaded(None, "", 200, "", marks, None, None, None, (), (), (), (), (), {}), 5000)
        self.assertEqual([found[name] for name in KIND.phases], [5, 20, 0, 35, 1, 19])


class Expectations(unittest.IsolatedAsyncioTestCase):
    async def test_too_many_failed_requests(self) -> None:
        loaded = PageLoaded(None, "", 200, "", {}, None, None, None, (), (), (), ("a: failed", "b: failed"), (), {})
        net = SimulatedNet(on_load=lambda _page: loaded)
        self.assertIsNone((await measured(net, url="http://a.example/", most_failed=2)).reason)
        found = await measured(net, url="http://a.example/", most_failed=1)
        self.assertEqual((found.reason, found.note), (Reason.UNEXPECTED_ANSWER, "2 requests failed, the first a: failed"))
