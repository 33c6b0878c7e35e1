"""Delivery seen from the hub: bad input is told by field, value and remedy, and nothing is half-stored."""

import time
import unittest
from typing import Any

import zstandard
from httpx import Response

from kuppel.wire.delivery import BATCH_BYTES, RESULTS_PER_BATCH
from tests.hub.running import TOKEN, HubInside

SECOND = 1_000_000


def now_us() -> int:
    return time.time_ns() // 1000


def a_result(sequence: int, own_stream: int, **changed: Any) -> dict[str, Any]:
    started_us = now_us() - 1000 * SECOND + sequence * SECOND
    attempts = [{"started_us": started_us, "duration_us": 1000, "reason": None, "note": ""}]
    return {
        "sequence": sequence,
        "stream": own_stream,
        "started_us": started_us,
        "quantities": {"total": 120.5},
        "attempts": attempts,
    } | changed


class IntakeCase(unittest.TestCase):
    def setUp(self) -> None:
        self.hub = HubInside()
        self.enterContext(self.hub)
        self.point, self.agent = self.hub.enrol()
        self.hub.add_probe([self.point])
        self.stream = self.hub.streams()[0]["stream"]

    def deliver(self, results: list[dict[str, Any]], **envelope: Any) -> Response:
        batch = {"spool": "spool-number-one", "units": {"total": "ms"}, "results": results} | envelope
        return self.hub.client.post("/api/agents/self/batches", json=batch, headers=self.agent)

    def stored(self) -> int:
        page = self.hub.client.get(f"/api/streams/{self.stream}/runs").json()
        total: int = page["total"]
        return total

    def refusal(self, **changed: Any) -> dict[str, Any]:
        """The refusal of one bad result between two good ones, which must be stored all the same."""
        envelope = {key: changed.pop(key) for key in ("units",) if key in changed}
        results = [a_result(1, self.stream), a_result(2, self.stream, **changed), a_result(3, self.stream)]
        if envelope:
            results = [results[1]]
        answer = self.deliver(results, **envelope)
        self.assertEqual(answer.status_code, 200, answer.text)
        receipt = answer.json()
        self.assertEqual((receipt["taken"], receipt["acknowledged"]), (len(results) - 1, results[-1]["sequence"]))
        self.assertEqual(self.stored(), len(results) - 1)
        (refused,) = receipt["refused"]
        self.assertEqual(refused["sequence"], 2)
        return dict(refused)


class BadResults(IntakeCase):
    def test_of_a_stream_that_is_not_its_own(self) -> None:
        other, _ = self.hub.enrol("Ostrey")
        self.hub.add_probe([other], name="other page")
        foreign = next(one["stream"] for one in self.hub.streams() if one["vantage_point"] == "Ostrey")
        refused = self.refusal(stream=foreign)
        self.assertEqual((refused["field"], refused["value"]), ("stream", str(foreign)))

    def test_from_the_future(self) -> None:
        refused = self.refusal(started_us=now_us() + 3600 * SECOND)
        self.assertEqual(refused["field"], "started_us")
        self.assertIn("clock", refused["remedy"])

    def test_years_old(self) -> None:
        refused = self.refusal(started_us=now_us() - 3 * 365 * 86_400 * SECOND)
        self.assertIn("400 days", refused["remedy"])

    def test_in_a_wrong_unit(self) -> None:
        refused = self.refusal(units={"total": "s"})
        self.assertEqual((refused["field"], refused["value"]), ("units.total", "s"))
        self.assertIn("'ms'", refused["remedy"])

    def test_of_an_unknown_quantity(self) -> None:
        self.assertEqual(self.refusal(quantities={"speed": 3})["value"], "speed")

    def test_of_an_unknown_reason(self) -> None:
        self.assertEqual(self.refusal(reason="bad luck")["field"], "reason")

    def test_without_a_single_attempt(self) -> None:
        self.assertEqual(self.refusal(attempts=[])["field"], "attempts")


class BadBatches(IntakeCase):
    def problem(self, answer: Response, status: int) -> dict[str, Any]:
        """RFC 9457: the media type, and the status inside as outside."""
        self.assertEqual(answer.status_code, status, answer.text)
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        self.assertEqual(answer.json()["status"], status)
        self.assertEqual(self.stored(), 0)
        return dict(answer.json())

    def test_too_many_results(self) -> None:
        results = [a_result(n, self.stream) for n in range(1, RESULTS_PER_BATCH + 2)]
        self.assertIn(str(RESULTS_PER_BATCH), self.problem(self.deliver(results), 413)["title"])

    def test_too_many_bytes(self) -> None:
        result = a_result(1, self.stream, detail={"note": "x" * BATCH_BYTES})
        self.problem(self.deliver([result]), 413)

    def test_a_small_packet_that_unpacks_to_too_many_bytes(self) -> None:
        body = zstandard.compress(b" " * (BATCH_BYTES * 20))
        self.assertLess(len(body), 20_000)
        headers = self.agent | {"Content-Encoding": "zstd", "Content-Type": "application/json"}
        self.problem(self.hub.client.post("/api/agents/self/batches", content=body, headers=headers), 413)

    def test_what_is_no_batch(self) -> None:
        for body, field in ((b"{", "body"), (b"[]", "body"), (b'{"results": []}', "spool")):
            answer = self.hub.client.post("/api/agents/self/batches", content=body, headers=self.agent)
            self.assertEqual(self.problem(answer, 422)["field"], field)
        bad = self.hub.client.post(
            "/api/agents/self/batches", content=b"x", headers=self.agent | {"Content-Encoding": "zstd"}
        )
        self.assertEqual(self.problem(bad, 422)["field"], "Content-Encoding")

    def test_numbers_that_do_not_rise(self) -> None:
        results = [a_result(2, self.stream), a_result(1, self.stream)]
        self.assertEqual(self.problem(self.deliver(results), 422)["field"], "results.sequence")


class Delivered(IntakeCase):
    def test_twice_is_taken_once(self) -> None:
        results = [a_result(n, self.stream) for n in range(1, 11)]
        first, again = self.deliver(results).json(), self.deliver(results).json()
        self.assertEqual((first["taken"], again["taken"], again["repeated"]), (10, 0, 10))
        self.assertEqual(self.stored(), 10)

    def test_a_refused_result_is_counted_once(self) -> None:
        results = [a_result(1, self.stream, quantities={"speed": 1})]
        self.deliver(results)
        self.deliver(results)
        (point,) = self.hub.client.get("/api/vantage-points").json()
        self.assertEqual(point["refused_results"], 1)

    def test_packed_with_zstd(self) -> None:
        import orjson

        batch = {"spool": "spool-number-one", "units": {"total": "ms"}, "results": [a_result(1, self.stream)]}
        headers = self.agent | {"Content-Encoding": "zstd"}
        answer = self.hub.client.post(
            "/api/agents/self/batches", content=zstandard.compress(orjson.dumps(batch)), headers=headers
        )
        self.assertEqual(answer.json()["taken"], 1)

    def test_a_store_without_time_says_when_to_come_again(self) -> None:
        """RFC 6585 §4: 429 may carry Retry-After."""
        from kuppel.store.writer import StoreBusy

        def busy(*_: object) -> None:
            raise StoreBusy

        self.hub.app.state.hub.writer.submit = busy
        answer = self.deliver([a_result(1, self.stream)])
        self.assertEqual((answer.status_code, answer.headers["Retry-After"]), (429, "2"))

    def test_a_full_disk_is_told_and_nothing_is_half_stored(self) -> None:
        from sqlalchemy import text

        hub = self.hub.app.state.hub

        def limit(connection: Any) -> None:
            pages = connection.execute(text("PRAGMA page_count")).scalar_one()
            connection.execute(text(f"PRAGMA max_page_count={pages}"))

        hub.writer.write(limit)
        results = [a_result(n, self.stream, detail={"note": "x" * 400}) for n in range(1, 400)]
        answer = self.deliver(results)
        self.assertEqual(answer.status_code, 507, answer.text)
        self.assertIn("room", answer.json()["remedy"])
        self.assertEqual(self.stored(), 0)
        hub.writer.write(lambda connection: connection.execute(text("PRAGMA max_page_count=1073741823")).scalar())
        self.assertEqual(self.deliver(results).json()["taken"], 399)


class WhoMay(IntakeCase):
    def test_agents_need_a_token_of_their_own(self) -> None:
        """RFC 6750 §3: 401 with WWW-Authenticate: Bearer."""
        for headers in (
            {},
            {"Authorization": "Bearer wrong"},
            {"Authorization": "Basic x"},
            {"Authorization": f"Bearer {TOKEN}"},
        ):
            for method, path in (("GET", "assignment"), ("GET", "clock"), ("POST", "batches"), ("PUT", "report")):
                answer = self.hub.client.request(method, f"/api/agents/self/{path}", headers=headers)
                self.assertEqual((answer.status_code, answer.headers["WWW-Authenticate"]), (401, "Bearer"), path)

    def test_enrolment_needs_the_hubs_token(self) -> None:
        from tests.hub.running import DESCRIPTION

        answer = self.hub.client.post("/api/agents/enrolments", json=DESCRIPTION, headers=self.agent)
        self.assertEqual(answer.status_code, 401)

    def test_tokens_are_stored_as_digests(self) -> None:
        token = self.agent["Authorization"].removeprefix("Bearer ")
        database = self.hub.app.state.hub.database.place
        self.hub.client.__exit__(None, None, None)
        stored = b"".join(path.read_bytes() for path in database.parent.glob("kuppel.db*"))
        self.assertNotIn(token.encode(), stored)
        self.hub.client.__enter__()

    def test_a_page_of_another_name_is_refused(self) -> None:
        """A name that an attacker points at loopback arrives as a foreign Host."""
        answer = self.hub.client.get("/api/streams", headers={"Host": "evil.example"})
        self.assertEqual(answer.status_code, 400)
